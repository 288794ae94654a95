/** Numbers as people read them: three figures and the unit that fits. */

/** Making a formatter takes far longer than using one. */
const plain = new Intl.NumberFormat("en-GB");
const byPlaces = Array.from(
  { length: 7 },
  (_, places) =>
    new Intl.NumberFormat("en-GB", {
      minimumFractionDigits: places,
      maximumFractionDigits: places,
    }),
);

export function figures(value: number, digits = 3): string {
  if (!Number.isFinite(value)) return "–";
  if (value === 0) return "0";
  // Rounded first: it may carry into another figure, as 0.9996 does into 1.00.
  const rounded = Math.abs(Number(value.toPrecision(digits)));
  const places = Math.max(0, digits - 1 - Math.floor(Math.log10(rounded)));
  return byPlaces[Math.min(places, 6)]?.format(value) ?? String(value);
}

export function seconds(value: number | null | undefined): string {
  if (value == null) return "–";
  const size = Math.abs(Number(value.toPrecision(3)));
  if (size >= 120) return `${figures(value / 60)} min`;
  if (size >= 1) return `${figures(value)} s`;
  if (size >= 1e-3) return `${figures(value * 1e3)} ms`;
  return `${figures(value * 1e6)} µs`;
}

export function bytes(value: number | null | undefined): string {
  if (value == null) return "–";
  const size = Math.abs(Number(value.toPrecision(3)));
  if (size >= 1e12) return `${figures(value / 1e12)} TB`;
  if (size >= 1e9) return `${figures(value / 1e9)} GB`;
  if (size >= 1e6) return `${figures(value / 1e6)} MB`;
  if (size >= 1e3) return `${figures(value / 1e3)} kB`;
  // Bytes are whole; a part of one comes of a mean, such as bytes a row.
  return `${Number.isInteger(value) ? value : figures(value)} B`;
}

/** A size that somebody chose, in the unit that it is a whole number of. */
export function chosenBytes(value: number): string {
  const units: [number, string][] = [
    [2 ** 30, "GiB"],
    [2 ** 20, "MiB"],
  ];
  const whole = units.find(([size]) => value >= size && value % size === 0);
  return whole ? `${count(value / whole[0])} ${whole[1]}` : bytes(value);
}

export function count(value: number): string {
  return plain.format(value);
}

export function plural(n: number, one: string, many = `${one}s`): string {
  return `${count(n)} ${n === 1 ? one : many}`;
}

export function ago(moment: string): string {
  const s = (Date.now() - new Date(moment).getTime()) / 1000;
  if (s < 60) return "just now";
  if (s < 3600) return `${Math.round(s / 60)} min ago`;
  if (s < 86400) return `${Math.round(s / 3600)} h ago`;
  return new Date(moment).toLocaleDateString("en-GB", {
    day: "numeric",
    month: "short",
    year: "numeric",
  });
}

/** A quantity without the zeros that only its three figures brought, for what people set. */
export function trimmed(quantity: string): string {
  return quantity.replace(/(\.\d*?)0+ /, "$1 ").replace(". ", " ");
}

/** A tick on a time axis: short, no trailing zeros. */
export function shortSeconds(value: number): string {
  const trim = (n: number) => Number(n.toPrecision(2)).toString();
  if (value >= 60) return `${trim(value / 60)} min`;
  if (value >= 1) return `${trim(value)} s`;
  if (value >= 1e-3) return `${trim(value * 1e3)} ms`;
  return `${trim(value * 1e6)} µs`;
}

/** Knob values of a point in words. */
export function pointWords(point: Record<string, unknown>): string {
  return Object.entries(point)
    .map(([knob, value]) => `${knob} = ${typeof value === "number" ? count(value) : String(value)}`)
    .join(", ");
}

const SECONDS: Record<string, number> = { us: 1e-6, µs: 1e-6, ms: 1e-3, s: 1, min: 60, h: 3600 };
const BYTES: Record<string, number> = {
  b: 1,
  kb: 1e3,
  mb: 1e6,
  gb: 1e9,
  tb: 1e12,
  kib: 2 ** 10,
  mib: 2 ** 20,
  gib: 2 ** 30,
  tib: 2 ** 40,
};

function read(text: string, units: Record<string, number>, usual: string): number | null {
  const match = /^\s*([0-9]+(?:\.[0-9]+)?)\s*([A-Za-zµ]*)\s*$/.exec(text);
  if (!match) return null;
  const unit = units[(match[2] || usual).toLowerCase()];
  return unit === undefined ? null : Number(match[1]) * unit;
}

export const readSeconds = (text: string) => read(text, SECONDS, "s");
export const readBytes = (text: string) => read(text, BYTES, "b");

/** What an engine counted, in the unit that its name says. */
export function counted(name: string, value: number): string {
  if (name.endsWith("bytes")) return bytes(value);
  if (name.endsWith("seconds")) return seconds(value);
  return Number.isInteger(value) ? count(value) : figures(value);
}

/** A moment as a field of date and time takes it: in this place's time, to the minute. */
export function localMoment(when: Date): string {
  const shifted = new Date(when.getTime() - when.getTimezoneOffset() * 60_000);
  return shifted.toISOString().slice(0, 16);
}

/** A moment in words: "3 May 2031, 22:00". */
export function momentWords(text: string): string {
  return new Date(text).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" });
}
