/** A lane's mark: one colour and one glyph, everywhere. */
import { LANE_COLOURS } from "../api/facts";
import { symbol, type SymbolType } from "d3-shape";
import {
  symbolCircle,
  symbolCross,
  symbolDiamond,
  symbolSquare,
  symbolStar,
  symbolTriangle,
  symbolWye,
} from "d3-shape";

const turned = (type: SymbolType): SymbolType => ({
  draw(context, size) {
    const flipped = {
      moveTo: (x: number, y: number) => context.moveTo(-x, -y),
      lineTo: (x: number, y: number) => context.lineTo(-x, -y),
      closePath: () => context.closePath(),
    };
    type.draw(flipped as never, size);
  },
});

const GLYPHS: SymbolType[] = [
  symbolCircle,
  symbolSquare,
  symbolTriangle,
  symbolDiamond,
  symbolCross,
  symbolStar,
  turned(symbolTriangle),
  symbolWye,
  turned(symbolWye),
];

export function laneColour(place: number): string {
  return `var(--lane-${place % LANE_COLOURS})`;
}

const drawn = new Map<string, string>();

export function glyphPath(place: number, area: number): string {
  const key = `${place % GLYPHS.length} ${area}`;
  const known = drawn.get(key) ?? symbol(GLYPHS[place % GLYPHS.length], area)() ?? "";
  drawn.set(key, known);
  return known;
}

export function Glyph({ place, size = 14 }: { place: number; size?: number }) {
  return (
    <svg
      className="glyph"
      width={size}
      height={size}
      viewBox={`${-size / 2} ${-size / 2} ${size} ${size}`}
      aria-hidden="true"
    >
      <path d={glyphPath(place, size * size * 0.42)} fill={laneColour(place)} />
    </svg>
  );
}
