/** What hands do on a pane, as movements of the span in sight. */

import type uPlot from "uplot";
import type { PaneProps } from "./paneOptions";
import type { Range } from "./shapes";

/** A press that moves less is a click. */
const LEAST_DRAG = 4;
/** How far a wheel zooms: a notch of a mouse by about a quarter, a touchpad by its own small deltas. */
const WHEEL = 0.002;
const LINE = 16;
const FINGER = 8;

/** Let drags, wheels and fingers move what a pane shows. Returns what ends it. */
export function moving(made: uPlot, latest: { current: PaneProps }): () => void {
  const momentAt = (x: number) => made.posToVal(x - made.over.getBoundingClientRect().left, "x");
  const zoom = (factor: number, x: number) => {
    const [from, to] = latest.current.range;
    const here = momentAt(x);
    latest.current.onRange?.([here - (here - from) * factor, here + (to - here) * factor]);
  };
  const pan = (from: Range, by: number) => {
    const shift = (by / made.over.clientWidth) * (from[1] - from[0]);
    latest.current.onRange?.([from[0] - shift, from[1] - shift]);
  };
  const wheel = (event: WheelEvent) => {
    const lines = event.deltaMode === WheelEvent.DOM_DELTA_LINE ? LINE : 1;
    if (event.ctrlKey || event.metaKey) zoom(Math.exp(event.deltaY * lines * WHEEL), event.clientX);
    else if (Math.abs(event.deltaX) > Math.abs(event.deltaY))
      pan(latest.current.range, -event.deltaX * lines);
    else return;
    event.preventDefault();
  };
  made.over.addEventListener("wheel", wheel, { passive: false });
  const unpan = panning(made.over, {
    range: () => latest.current.range,
    pan,
    pick: (x) => {
      const [from, to] = latest.current.range;
      latest.current.onPick?.(momentAt(x), (FINGER * (to - from)) / made.over.clientWidth);
    },
  });
  const unpinch = pinching(made.over, zoom);
  return () => {
    unpinch();
    unpan();
  };
}

interface Panning {
  range: () => Range;
  pan: (from: Range, by: number) => void;
  pick: (x: number) => void;
}

/** One finger, or the mouse without a key: a drag moves what is in sight, a press that goes nowhere picks. */
function panning(element: HTMLElement, { range, pan, pick }: Panning): () => void {
  let press: { id: number; x: number; from: Range; isMoving: boolean } | null = null;
  const down = (e: PointerEvent) => {
    if (e.button !== 0 || e.shiftKey || e.ctrlKey || e.metaKey) return;
    // A second finger is for pinching.
    press = press ? null : { id: e.pointerId, x: e.clientX, from: range(), isMoving: false };
  };
  const move = (e: PointerEvent) => {
    if (press?.id !== e.pointerId) return;
    const by = e.clientX - press.x;
    if (!press.isMoving && Math.abs(by) < LEAST_DRAG) return;
    if (!press.isMoving) element.setPointerCapture(e.pointerId);
    press.isMoving = true;
    pan(press.from, by);
  };
  const up = (e: PointerEvent) => {
    if (press?.id === e.pointerId && !press.isMoving && e.type === "pointerup") pick(e.clientX);
    press = null;
  };
  return listening(element, { pointerdown: down, pointermove: move, pointerup: up, pointercancel: up });
}

function listening(element: HTMLElement, listeners: Record<string, (e: PointerEvent) => void>): () => void {
  for (const [name, listener] of Object.entries(listeners))
    element.addEventListener(name, listener as EventListener);
  return () => {
    for (const [name, listener] of Object.entries(listeners))
      element.removeEventListener(name, listener as EventListener);
  };
}

/** Two fingers on an element: by which factor the span between them stands for more, and about where. */
export function pinching(element: HTMLElement, onPinch: (factor: number, x: number) => void): () => void {
  const fingers = new Map<number, number>();
  let apart = 0;
  const spread = () => {
    const [a = 0, b = 0] = fingers.values();
    return Math.max(Math.abs(a - b), 12);
  };
  const down = (e: PointerEvent) => {
    if (e.pointerType !== "touch") return;
    fingers.set(e.pointerId, e.clientX);
    if (fingers.size === 2) apart = spread();
  };
  const move = (e: PointerEvent) => {
    if (!fingers.has(e.pointerId)) return;
    fingers.set(e.pointerId, e.clientX);
    if (fingers.size !== 2) return;
    const now = spread();
    const [a = 0, b = 0] = fingers.values();
    if (Math.abs(now - apart) < 2) return;
    onPinch(apart / now, (a + b) / 2);
    apart = now;
  };
  const up = (e: PointerEvent) => fingers.delete(e.pointerId);
  // Up and down still scroll the page; two fingers are ours.
  element.style.touchAction = "pan-y";
  return listening(element, {
    pointerdown: down,
    pointermove: move,
    pointerup: up,
    pointercancel: up,
    pointerleave: up,
  });
}
