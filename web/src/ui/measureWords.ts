/** A value of a measure as people read it, by its unit. */
import { bytes, figures, seconds } from "./units";

export type Unit = "seconds" | "bytes" | "count" | "cores" | "share";

export function inUnit(unit: Unit, value: number): string {
  switch (unit) {
    case "seconds":
      return seconds(value);
    case "bytes":
      return bytes(value);
    case "share":
      return `${figures(100 * value)} %`;
    default:
      return Number.isInteger(value) ? value.toLocaleString("en-GB") : figures(value);
  }
}
