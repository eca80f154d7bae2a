import { useCallback, useEffect, useRef } from "react";
import { useSearchParams } from "react-router";

type Texts = Record<string, string | number | null | undefined>;
type Change = (old: URLSearchParams) => URLSearchParams;

/** An address with some names changed; an empty one is taken out. */
export function withNames(old: URLSearchParams, changes: Texts): URLSearchParams {
  const next = new URLSearchParams(old);
  for (const [name, value] of Object.entries(changes)) {
    if (value === null || value === undefined || value === "") next.delete(name);
    else next.set(name, String(value));
  }
  return next;
}

/**
 * What stands in the address after the question mark, and a way to change it. A change begins from what was written last: the page
 * is drawn a moment after the address has changed, and the next change must not take the last one back.
 */
export function useAddress(): [URLSearchParams, (change: Change, options?: { replace?: boolean }) => void] {
  const [params, setParams] = useSearchParams();
  const latest = useRef(params);
  const ahead = useRef<string[]>([]);
  const shown = params.toString();
  // biome-ignore lint/correctness/useExhaustiveDependencies: the text says when
  useEffect(() => {
    const at = ahead.current.indexOf(shown);
    ahead.current = at < 0 ? [] : ahead.current.slice(at + 1);
    // Drawn is what was written last, or where somebody went by Back or by a link.
    if (ahead.current.length === 0) latest.current = params;
  }, [shown]);
  const set = useRef(setParams);
  set.current = setParams;
  const change = useCallback((work: Change, options?: { replace?: boolean }) => {
    const next = work(new URLSearchParams(latest.current));
    if (next.toString() !== latest.current.toString()) ahead.current.push(next.toString());
    latest.current = next;
    set.current(next, options);
  }, []);
  return [params, change];
}
