/** A drawing with the table behind it, to be read as figures, and both as files. */
import { App, Button } from "antd";
import { useRef, useState } from "react";
import { asCsv, asMarkdown, asPng, asSvg, type CellValue, download, give } from "./download";

type Props = {
  /** What it shows, and the name of its files. */
  title: string;
  head: string[];
  /** Figures in whole: what the CSV holds. */
  rows: CellValue[][];
  /** The same as people read them; the figures themselves unless given. */
  told?: React.ReactNode[][];
  children: React.ReactNode;
};

export function Figure({ title, head, rows, told, children }: Props) {
  const { message } = App.useApp();
  const [open, setOpen] = useState(false);
  const ref = useRef<HTMLDivElement>(null);
  const file = title.toLowerCase().replaceAll(/[^a-z0-9]+/g, "-");
  const picture = () => {
    const drawn = ref.current?.querySelector("svg");
    if (drawn) download(`${file}.svg`, "image/svg+xml", asSvg(drawn));
  };
  const png = () => {
    const drawn = ref.current?.querySelector("svg");
    if (drawn) void asPng(drawn).then((image) => give(`${file}.png`, image));
  };
  const shown = told ?? rows;
  return (
    <figure className="figure-frame" aria-label={title}>
      <div ref={ref}>{children}</div>
      <figcaption className="small">
        <Button size="small" type="link" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Hide the table" : "As a table"}
        </Button>
        <Button size="small" type="link" onClick={picture}>
          SVG
        </Button>
        <Button size="small" type="link" onClick={png}>
          PNG
        </Button>
        <Button
          size="small"
          type="link"
          onClick={() => download(`${file}.csv`, "text/csv;charset=utf-8", asCsv(head, rows))}
        >
          CSV
        </Button>
        <Button
          size="small"
          type="link"
          onClick={() =>
            void navigator.clipboard
              .writeText(asMarkdown(head, rows))
              .then(() => message.success("The table is on the clipboard"))
          }
        >
          Markdown
        </Button>
      </figcaption>
      {open && (
        <table className="plain">
          <thead>
            <tr>
              {head.map((word) => (
                <th key={word}>{word}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {shown.map((row, i) => (
              <tr key={i}>
                {row.map((cell, j) => (
                  <td key={j} className={typeof rows[i]?.[j] === "number" ? "number" : ""}>
                    {cell}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </figure>
  );
}
