import { useCallback, useEffect, useRef, useState } from "react";

const SETTLE_MS = 250;
// Whoever rests in the middle of a drag has not ended it.
let isPressed = false;
for (const [name, pressed] of [
  ["pointerdown", true],
  ["pointerup", false],
  ["pointercancel", false],
] as const)
  window.addEventListener(
    name,
    () => {
      isPressed = pressed;
    },
    true,
  );

/**
 * A value that lies in the address: while a gesture goes on it is kept here, and written once when it has ended. The browser
 * drops writes beyond a few a second, and each would be one more step for Back.
 */
export function useSettled<T>(stored: T, store: (value: T) => void): [T, (value: T) => void, boolean] {
  const [moving, setMoving] = useState<{ value: T } | null>(null);
  const timer = useRef(0);
  const latest = useRef(store);
  latest.current = store;
  const set = useCallback((value: T) => {
    setMoving({ value });
    window.clearTimeout(timer.current);
    const write = () => {
      if (isPressed) timer.current = window.setTimeout(write, SETTLE_MS);
      else {
        timer.current = 0;
        latest.current(value);
      }
    };
    timer.current = window.setTimeout(write, SETTLE_MS);
  }, []);
  // What was written, or where Back went, is what holds.
  const mark = JSON.stringify(stored);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the mark says when
  useEffect(() => {
    // A gesture that has begun since is newer than what was just written.
    if (timer.current === 0) setMoving(null);
  }, [mark]);
  useEffect(() => () => window.clearTimeout(timer.current), []);
  return [moving ? moving.value : stored, set, moving !== null];
}
