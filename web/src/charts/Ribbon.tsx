import { memo, useEffect, useRef } from "react";
import { palette, usePalette } from "./palette";
import { binsOf, QUIET } from "./ribbons";

const FAINT = 38; // tenths of a sigma: below this the water is calm

interface Props {
  /** One signed byte a bin, or base64 of them: tenths of a sigma, -128 where nothing is judged. */
  ribbon: string | Int8Array;
  from: number;
  to: number;
  span: [number, number];
  marks?: { time: number; side: number }[];
  /** Newer bins may still change: they are drawn open. */
  judgedUntil?: number | null;
  label: string;
  height?: number;
}

/** Score over time as a thin strip: colour by side, depth and height by size. */
export const Ribbon = memo(function Ribbon({
  ribbon,
  from,
  to,
  span,
  marks = [],
  judgedUntil = null,
  label,
  height = 18,
}: Props) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const scheme = usePalette();
  // biome-ignore lint/correctness/useExhaustiveDependencies: another scheme has other colours
  useEffect(() => {
    const element = canvas.current;
    if (!element) return;
    const draw = (width: number) => {
      const ratio = devicePixelRatio || 1;
      element.width = width * ratio;
      element.height = height * ratio;
      const pen = element.getContext("2d");
      if (!pen || !width) return;
      pen.scale(ratio, ratio);
      const colours = palette();
      const x = (ms: number) => ((ms - span[0]) / (span[1] - span[0] || 1)) * width;
      const bins = typeof ribbon === "string" ? binsOf(ribbon) : ribbon;
      const left = x(from);
      const step = (x(to) - left) / (bins.length || 1);
      const isOpen = (i: number) =>
        judgedUntil !== null && from + ((i + 1) / bins.length) * (to - from) > judgedUntil;
      for (let i = 0; i < bins.length; i++) {
        const value = bins[i] ?? QUIET;
        if (value === QUIET) continue;
        pen.globalAlpha = 1;
        if (isOpen(i)) {
          pen.strokeStyle = colours.line;
          pen.lineWidth = 1;
          pen.strokeRect(left + i * step + 0.5, 0.5, Math.max(1, step - 1), height - 1);
          continue;
        }
        // A run of calm bins is one piece: of a thousand rows none may take long.
        let end = i + 1;
        while (end < bins.length && bins[end] !== QUIET && !isOpen(end)) end++;
        pen.fillStyle = colours.wash;
        pen.fillRect(left + i * step, 0, (end - i) * step + 0.6, height);
        i = end - 1;
      }
      for (let i = 0; i < bins.length; i++) {
        const value = bins[i] ?? QUIET;
        const size = Math.abs(value);
        if (value === QUIET || size < FAINT) continue;
        if (isOpen(i)) continue;
        const share = Math.min(1, (size - FAINT) / 70);
        pen.globalAlpha = 0.22 + 0.78 * share;
        pen.fillStyle = value > 0 ? colours.above : colours.below;
        const tall = height * (0.35 + 0.65 * share);
        // Above sits on the upper half, below on the lower: side by place as well as by colour.
        const top = value > 0 ? 0 : height - tall;
        pen.fillRect(left + i * step, top, Math.max(1.6, step), tall);
      }
      pen.globalAlpha = 1;
      pen.strokeStyle = colours.shift;
      pen.lineWidth = 2;
      for (const { time, side } of marks) {
        const here = x(time);
        const up = side > 0;
        pen.beginPath();
        pen.moveTo(here - 5, up ? height - 4 : 4);
        pen.lineTo(here, up ? height - 4 : 4);
        pen.lineTo(here, up ? 4 : height - 4);
        pen.lineTo(here + 5, up ? 4 : height - 4);
        pen.stroke();
      }
    };
    // The observer reports the first width too, when it is laid out anyway: asking would lay out the page for every row.
    const watch = new ResizeObserver(([seen]) => draw(seen?.contentRect.width ?? 0));
    watch.observe(element);
    return () => watch.disconnect();
  }, [ribbon, from, to, span, marks, judgedUntil, height, scheme]);
  return (
    <canvas ref={canvas} role="img" aria-label={label} style={{ width: "100%", height, display: "block" }} />
  );
});
