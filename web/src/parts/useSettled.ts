import { useCallback, useEffect, useRef, useState } from "react";

const SETTLE_MS = 250;

/**
 * A value that lies in the address: while a gesture goes on it is kept here, and written once when it has ended. The browser
 * drops writes beyond a few a second, and each would be a step of its own for Back.
 */
export function useSettled<T>(stored: T, store: (value: T) => void): [T, (value: T) => void, boolean] {
  const [moving, setMoving] = useState<{ value: T } | null>(null);
  const timer = useRef(0);
  const latest = useRef(store);
  latest.current = store;
  const set = useCallback((value: T) => {
    setMoving({ value });
    window.clearTimeout(timer.current);
    timer.current = window.setTimeout(() => latest.current(value), SETTLE_MS);
  }, []);
  // What was written, or where Back went, is what holds.
  const mark = JSON.stringify(stored);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the mark says when
  useEffect(() => {
    window.clearTimeout(timer.current);
    setMoving(null);
  }, [mark]);
  useEffect(() => () => window.clearTimeout(timer.current), []);
  return [moving ? moving.value : stored, set, moving !== null];
}
