/** A value of a measure as people read it, by its unit. */
import { bytes, figures, seconds } from "./units";

/** Units that are told without their word. */
const BARE = ["count", "cores", ""];

export function inUnit(unit: string, value: number): string {
  switch (unit) {
    case "seconds":
      return seconds(value);
    case "bytes":
      return bytes(value);
    case "share":
      return `${figures(100 * value)} %`;
    default: {
      const told = Number.isInteger(value) ? value.toLocaleString("en-GB") : figures(value);
      return BARE.includes(unit) ? told : `${told} ${unit}`;
    }
  }
}
