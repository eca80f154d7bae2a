import { Box, Button, Group } from "@mantine/core";
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
    <Group component="aside" gap={16} align="baseline" mb={8} className="noted small" aria-label="Hint">
      <Box component="span" flex="1 1 300px">
        {children}
      </Box>
      <Button onClick={() => setSeen([...seen, name])}>Understood</Button>
    </Group>
  );
}

/** Have all hints shown once more. */
export function HintsAgain() {
  const [seen, setSeen] = useLocalStorage<string[]>({ key: KEY, defaultValue: [] });
  if (!seen.length) return null;
  return <Button onClick={() => setSeen([])}>Show the hints of the screens again</Button>;
}
