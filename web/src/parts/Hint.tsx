import { Button } from "@mantine/core";
import { useLocalStorage } from "@mantine/hooks";
import type { ReactNode } from "react";

const KEY = "watchtide-hints-seen";

/** What a newcomer does not know yet: shown on a screen until it was put away once, in this browser. */
export function Hint({ name, children }: { name: string; children: ReactNode }) {
  const [seen, setSeen] = useLocalStorage<string[]>({
    key: KEY,
    defaultValue: [],
    getInitialValueInEffect: false,
  });
  if (seen.includes(name)) return null;
  return (
    <aside className="hint small" aria-label="Hint">
      <span>{children}</span>
      <Button onClick={() => setSeen([...seen, name])}>Understood</Button>
    </aside>
  );
}

/** Have all hints shown once more. */
export function HintsAgain() {
  const [seen, setSeen] = useLocalStorage<string[]>({ key: KEY, defaultValue: [] });
  if (!seen.length) return null;
  return <Button onClick={() => setSeen([])}>Show the hints of the screens again</Button>;
}
