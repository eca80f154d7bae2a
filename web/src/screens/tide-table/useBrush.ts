import { type PointerEvent, useState } from "react";
import type { Span } from "./caps";

/** A place within the shared axis, dragged to a span: what the drag covers becomes the span. */
export function useBrush(span: Span, setSpan: (span: Span) => void) {
  const [from, setFrom] = useState<number | null>(null);
  const [to, setTo] = useState<number | null>(null);
  const at = (event: PointerEvent) => {
    const box = event.currentTarget.getBoundingClientRect();
    const share = Math.min(1, Math.max(0, (event.clientX - box.left) / (box.width || 1)));
    return span[0] + share * (span[1] - span[0]);
  };
  return {
    drawn: from !== null && to !== null ? ([Math.min(from, to), Math.max(from, to)] as Span) : null,
    handlers: {
      onPointerDown: (e: PointerEvent) => {
        e.currentTarget.setPointerCapture(e.pointerId);
        setFrom(at(e));
        setTo(at(e));
      },
      onPointerMove: (e: PointerEvent) => from !== null && setTo(at(e)),
      onPointerUp: (e: PointerEvent) => {
        const end = at(e);
        if (from !== null && Math.abs(end - from) > (span[1] - span[0]) / 100)
          setSpan([Math.min(from, end), Math.max(from, end)]);
        setFrom(null);
        setTo(null);
      },
    },
  };
}
