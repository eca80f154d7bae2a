import type uPlot from "uplot";
import { ratio } from "./drawing";
import type { Palette } from "./palette";

interface Reached {
  limit: number;
  side: string;
  reached_with: Record<string, number | null>;
}

/** Where the forecast begins, and where a tenth (open) and half (filled) of the futures have reached the limit. */
export function drawLimit(u: uPlot, colours: Palette, start: number, reached: Reached | null): void {
  const pen = u.ctx;
  const k = ratio();
  const { top, height } = u.bbox;
  const x = u.valToPos(start, "x", true);
  pen.strokeStyle = colours.ink;
  pen.lineWidth = 1.4 * k;
  pen.beginPath();
  pen.moveTo(x, top);
  pen.lineTo(x, top + height);
  pen.stroke();
  if (!reached) return;
  const colour = reached.side === "below" ? colours.below : colours.above;
  const y = u.valToPos(reached.limit, "y", true);
  for (const [chance, isFilled] of [
    ["0.1", false],
    ["0.5", true],
  ] as const) {
    const at = reached.reached_with[chance];
    if (at === null || at === undefined) continue;
    const here = u.valToPos(at, "x", true);
    pen.strokeStyle = colour;
    pen.fillStyle = isFilled ? colour : colours.paper;
    pen.setLineDash([3 * k, 3 * k]);
    pen.beginPath();
    pen.moveTo(here, y);
    pen.lineTo(here, top + height);
    pen.stroke();
    pen.setLineDash([]);
    pen.beginPath();
    pen.arc(here, y, 4.5 * k, 0, 7);
    pen.fill();
    pen.stroke();
  }
}
