/** Pictures and figures as files: SVG and PNG as it is drawn, CSV as it is told. */

/** Give a text to the user as a file. */
export function download(name: string, type: string, text: string): void {
  give(name, new Blob([text], { type }));
}

/** Give a file to the user. */
export function give(name: string, file: Blob): void {
  const address = URL.createObjectURL(file);
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

/** Rows as a table of Markdown. */
export function asMarkdown(head: string[], rows: CellValue[][]): string {
  const cell = (value: CellValue) =>
    value == null
      ? ""
      : String(value)
          .replaceAll(/([\\|])/g, "\\$1")
          .replaceAll(/\s*\n\s*/g, " ");
  const line = (cells: CellValue[]) => `| ${cells.map(cell).join(" | ")} |`;
  return [line(head), `|${"---|".repeat(head.length)}`, ...rows.map(line), ""].join("\n");
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

const NAMESPACE = "http://www.w3.org/2000/svg";

/** A copy of a drawing with what style sheets say of it written into it. */
function styled(drawn: SVGSVGElement): SVGSVGElement {
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
  return copy;
}

/** A file of its own around what is drawn, on the page's ground. */
function onGround(width: number, height: number, ...drawn: SVGElement[]): string {
  const whole = document.createElementNS(NAMESPACE, "svg");
  whole.setAttribute("xmlns", NAMESPACE);
  whole.setAttribute("width", String(Math.ceil(width)));
  whole.setAttribute("height", String(Math.ceil(height)));
  const ground = document.createElementNS(NAMESPACE, "rect");
  ground.setAttribute("width", "100%");
  ground.setAttribute("height", "100%");
  ground.setAttribute("fill", getComputedStyle(document.body).backgroundColor);
  whole.append(ground, ...drawn);
  return new XMLSerializer().serializeToString(whole);
}

/** A drawing as a file of its own. */
export function asSvg(drawn: SVGSVGElement): string {
  const { width, height } = drawn.getBoundingClientRect();
  return onGround(width, height, styled(drawn));
}

/** Points of a picture for each of the page's, so that it stands a larger print. */
const SHARPER = 2;

/** A drawing as an image. */
export async function asPng(drawn: SVGSVGElement): Promise<Blob> {
  const { width, height } = drawn.getBoundingClientRect();
  const image = new Image();
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(asSvg(drawn))}`;
  await image.decode();
  const canvas = document.createElement("canvas");
  canvas.width = Math.ceil(width * SHARPER);
  canvas.height = Math.ceil(height * SHARPER);
  canvas.getContext("2d")?.drawImage(image, 0, 0, canvas.width, canvas.height);
  return new Promise((done, failed) =>
    canvas.toBlob((blob) => (blob ? done(blob) : failed(new Error("no image"))), "image/png"),
  );
}

/** A part of the page that is made of text and drawings as one drawing. */
export function asPicture(part: HTMLElement): string {
  const frame = part.getBoundingClientRect();
  const pieces: SVGElement[] = [];
  for (const drawn of part.querySelectorAll<SVGSVGElement>("svg")) {
    const at = drawn.getBoundingClientRect();
    const copy = styled(drawn);
    copy.setAttribute("x", String(at.left - frame.left));
    copy.setAttribute("y", String(at.top - frame.top));
    copy.setAttribute("width", String(at.width));
    copy.setAttribute("height", String(at.height));
    pieces.push(copy);
  }
  const walker = document.createTreeWalker(part, NodeFilter.SHOW_TEXT);
  for (let node = walker.nextNode(); node; node = walker.nextNode()) {
    const parent = node.parentElement;
    if (!parent || parent.closest("svg") || !node.textContent?.trim()) continue;
    pieces.push(...lines(node as Text, parent, frame));
  }
  return onGround(frame.width, frame.height, ...pieces);
}

/** A text as it is broken into lines on the page. */
function lines(node: Text, parent: Element, frame: DOMRect): SVGElement[] {
  const style = getComputedStyle(parent);
  const found: { text: string; left: number; right: number; bottom: number }[] = [];
  const range = document.createRange();
  for (const word of node.data.matchAll(/\S+\s*/g)) {
    range.setStart(node, word.index);
    range.setEnd(node, word.index + word[0].trimEnd().length);
    const at = range.getBoundingClientRect();
    if (!at.width) continue;
    const last = found.at(-1);
    const bottom = at.bottom - frame.top;
    if (last && Math.abs(last.bottom - bottom) < 2) {
      last.text += word[0];
      last.right = at.right - frame.left;
    } else {
      found.push({
        text: word[0],
        left: at.left - frame.left,
        right: at.right - frame.left,
        bottom,
      });
    }
  }
  return found.map(({ text, left, right, bottom }) => {
    const line = document.createElementNS(NAMESPACE, "text");
    line.textContent = text.trimEnd();
    line.setAttribute("x", String(left));
    line.setAttribute("y", String(bottom - 0.27 * parseFloat(style.fontSize)));
    // Where the page's fonts are not at hand others take as much room.
    line.setAttribute("textLength", String(right - left));
    line.setAttribute("lengthAdjust", "spacingAndGlyphs");
    line.setAttribute("fill", style.color);
    for (const name of ["font-family", "font-size", "font-weight"]) {
      line.setAttribute(name, style.getPropertyValue(name));
    }
    return line;
  });
}
