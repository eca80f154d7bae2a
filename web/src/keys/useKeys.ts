import { useEffect, useRef } from "react";

export type Keys = Record<string, (event: KeyboardEvent) => void>;

/** Single-key commands of a screen; silent while somebody types or a dialog is open. */
export function useKeys(keys: Keys): void {
  const current = useRef(keys);
  current.current = keys;
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (event.altKey || event.metaKey || event.ctrlKey) return;
      if (/^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName) || target.isContentEditable) return;
      if (document.querySelector("[role=dialog]")) return;
      // Enter on a button or a link is that button's or link's.
      if (event.key === "Enter" && target.closest("button, a, summary")) return;
      const name = event.key.length === 1 ? event.key.toLowerCase() : event.key;
      const act = current.current[event.key] ?? current.current[name];
      if (act) {
        event.preventDefault();
        act(event);
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);
}
