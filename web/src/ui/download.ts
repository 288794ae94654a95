/** Pictures and figures as files: SVG as it is drawn, CSV as it is told. */

/** Give a text to the user as a file. */
export function download(name: string, type: string, text: string): void {
  const address = URL.createObjectURL(new Blob([text], { type }));
  const link = document.createElement("a");
  link.href = address;
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(address), 1000);
}

export type CellValue = string | number | null | undefined;

/** Rows as CSV (RFC 4180), numbers in whole. */
export function asCsv(head: string[], rows: CellValue[][]): string {
  const cell = (value: CellValue) => {
    const text = value == null ? "" : String(value);
    return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  };
  return [head, ...rows].map((row) => row.map(cell).join(",")).join("\r\n") + "\r\n";
}

const STYLES = [
  "fill",
  "fill-opacity",
  "stroke",
  "stroke-width",
  "stroke-dasharray",
  "stroke-linejoin",
  "opacity",
  "font-family",
  "font-size",
  "font-weight",
  "text-anchor",
  "paint-order",
];

/** A drawing as a file of its own: what style sheets say of it is written into it. */
export function asSvg(drawn: SVGSVGElement): string {
  const copy = drawn.cloneNode(true) as SVGSVGElement;
  const sources = [drawn, ...drawn.querySelectorAll<SVGElement>("*")];
  const targets = [copy, ...copy.querySelectorAll<SVGElement>("*")];
  sources.forEach((source, i) => {
    const style = getComputedStyle(source);
    for (const name of STYLES) {
      const value = style.getPropertyValue(name);
      if (value) targets[i]?.setAttribute(name, value);
    }
    targets[i]?.removeAttribute("class");
  });
  const { width, height } = drawn.getBoundingClientRect();
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  copy.setAttribute("width", String(width));
  copy.setAttribute("height", String(height));
  const ground = document.createElementNS("http://www.w3.org/2000/svg", "rect");
  ground.setAttribute("width", "100%");
  ground.setAttribute("height", "100%");
  ground.setAttribute("fill", getComputedStyle(document.body).backgroundColor);
  copy.insertBefore(ground, copy.firstChild);
  return new XMLSerializer().serializeToString(copy);
}
