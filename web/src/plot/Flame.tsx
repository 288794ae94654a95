/** What called what, each as wide as its time; callers stand above what they called. */
import { Input } from "antd";
import { useMemo, useState } from "react";
import type { Schemas } from "../api/client";
import { seconds } from "../ui/units";
import { useWidth } from "../ui/useWidth";
import "./flame.css";

type Node = Schemas["HotNode"];

const WIDTH = 420;
const ROW = 19;
const DEEPEST = 28;
const MARK_PX = 6.4;
const LEAST_PX = 1.5;

type Placed = { number: number; node: Node; x: number; width: number; depth: number };

/** Each part beside the others of what it is part of, the longest first. */
function placed(
  nodes: Node[],
  root: number | null,
  room: number,
): { shown: Placed[]; whole: number } {
  const below = new Map<number | null, number[]>();
  nodes.forEach((node, number) => {
    below.set(node.above, [...(below.get(node.above) ?? []), number]);
  });
  const first = root === null ? (below.get(null) ?? []) : [root];
  const whole = first.reduce((sum, number) => sum + (nodes[number]?.whole_s ?? 0), 0) || 1;
  const shown: Placed[] = [];
  const put = (numbers: number[], from: number, depth: number) => {
    let x = from;
    const longest = [...numbers].sort(
      (a, b) => (nodes[b]?.whole_s ?? 0) - (nodes[a]?.whole_s ?? 0),
    );
    for (const number of longest) {
      const node = nodes[number];
      if (!node) continue;
      const width = (node.whole_s / whole) * room;
      if (width >= LEAST_PX && depth < DEEPEST) {
        shown.push({ number, node, x, width, depth });
        put(below.get(number) ?? [], x, depth + 1);
      }
      x += width;
    }
  };
  put(first, 0, 0);
  return { shown, whole };
}

const words = (node: Node) => (node.line ? `${node.what}, line ${node.line}` : node.what);

/** The last part of a long name says more than its module. */
function fitting(text: string, width: number): string {
  const room = Math.floor(width / MARK_PX);
  if (room < 3) return "";
  if (text.length <= room) return text;
  const short = text.split(".").slice(-2).join(".");
  return short.length <= room ? short : `${short.slice(0, room - 1)}…`;
}

/** Seconds of what was sought, counted once where it lies within itself. */
function soughtSeconds(nodes: Node[], fits: (node: Node) => boolean): number {
  const inside = nodes.map(() => false);
  return nodes.reduce((sum, node, number) => {
    const above = node.above !== null && (inside[node.above] ?? false);
    inside[number] = above || fits(node);
    return sum + (fits(node) && !above ? node.whole_s : 0);
  }, 0);
}

type Props = {
  nodes: Node[];
  label: string;
  /** Whether they are steps of plans, which feed what stands above, instead of calls. */
  steps: boolean;
};

export function Flame({ nodes, label, steps }: Props) {
  const [sought, setSought] = useState("");
  const [root, setRoot] = useState<number | null>(null);
  const here = root !== null && root < nodes.length ? root : null;
  const [ref, room] = useWidth<HTMLDivElement>(WIDTH);
  const { shown, whole } = useMemo(() => placed(nodes, here, room), [nodes, here, room]);
  const text = sought.trim().toLowerCase();
  const fits = (node: Node) => text !== "" && words(node).toLowerCase().includes(text);
  const all = nodes.reduce((sum, node) => sum + (node.above === null ? node.whole_s : 0), 0) || 1;
  const part = soughtSeconds(nodes, fits);
  const rows = Math.max(1, ...shown.map((one) => one.depth + 1));
  return (
    <div className="flame" data-testid="flame" ref={ref}>
      <div className="row">
        <Input
          size="small"
          allowClear
          className="sought"
          value={sought}
          placeholder={steps ? "Find a step" : "Find a function or a line"}
          aria-label={steps ? "Find a step" : "Find a function or a line"}
          onChange={(event) => setSought(event.target.value)}
        />
        <span className="small quiet" data-testid="flame-sought">
          {text
            ? `${((100 * part) / all).toFixed(1)} %, ${seconds(part)}`
            : here === null
              ? `what stands below ${steps ? "feeds" : "is called by"} what stands above`
              : ""}
        </span>
        {here !== null && (
          <button className="text link small" onClick={() => setRoot(null)}>
            show all
          </button>
        )}
      </div>
      <div className="scroll">
        <svg width={room} height={rows * ROW} role="img" aria-label={label}>
          {shown.map(({ number, node, x, width, depth }) => (
            <g
              key={number}
              className={`${node.line ? "of-lane" : "other"}${fits(node) ? " sought" : ""}`}
              onClick={() => setRoot(number)}
            >
              <title>
                {`${words(node)}: ${seconds(node.whole_s)}, ${((100 * node.whole_s) / whole).toFixed(1)} %; ${seconds(node.own_s)} in itself`}
              </title>
              <rect x={x} y={depth * ROW} width={Math.max(0.5, width - 1)} height={ROW - 1} />
              <text x={x + 3} y={depth * ROW + 13}>
                {fitting(words(node), width - 6)}
              </text>
            </g>
          ))}
        </svg>
      </div>
    </div>
  );
}
