import { useLocalStorage } from "@mantine/hooks";

/** Widths in pixels as they are at first; the ribbon takes what is left. */
const USUAL: Record<string, number> = {
  name: 216,
  value: 88,
  state: 74,
  open: 52,
  strongest: 96,
  newest: 124,
  owner: 104,
  cadence: 70,
};
const [LEAST, MOST] = [44, 420];

/** How wide each column is, in this browser; dragging the edge of a head or arrow keys on it change it. */
export function useWidths(columns: string[]) {
  const [own, setOwn] = useLocalStorage<Record<string, number>>({
    key: "watchtide-tide-widths",
    defaultValue: {},
    getInitialValueInEffect: false,
  });
  const widthOf = (column: string) => own[column] ?? USUAL[column] ?? 90;
  const setWidth = (column: string, pixels: number) =>
    setOwn({ ...own, [column]: Math.round(Math.min(MOST, Math.max(LEAST, pixels))) });
  const grid = [`${widthOf("name")}px`, "minmax(120px, 1fr)", ...columns.map((c) => `${widthOf(c)}px`)].join(
    " ",
  );
  return { grid, widthOf, setWidth, least: LEAST, most: MOST };
}

export type Widths = ReturnType<typeof useWidths>;
