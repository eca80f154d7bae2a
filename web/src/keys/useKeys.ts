import { useEffect, useRef } from "react";

const OFF = "watchtide-no-letters";

/** Whether single letters act; who dictates or has no steady hand can switch them off (WCAG 2.1.4). */
export function hasLetters(): boolean {
  return localStorage.getItem(OFF) === null;
}

export function setLetters(isOn: boolean): void {
  if (isOn) localStorage.removeItem(OFF);
  else localStorage.setItem(OFF, "1");
}

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
      if (/^[a-z]$/i.test(event.key) && !hasLetters()) return;
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
