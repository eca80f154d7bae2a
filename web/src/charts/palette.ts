import { useComputedColorScheme } from "@mantine/core";

export interface Palette {
  ink: string;
  soft: string;
  hair: string;
  line: string;
  band: string;
  wash: string;
  above: string;
  below: string;
  shift: string;
  paper: string;
}

/** The colours in force, read off the page, for what is drawn on canvas. */
export function palette(element: Element): Palette {
  const style = getComputedStyle(element);
  const of = (name: string) => style.getPropertyValue(`--${name}`).trim();
  return {
    ink: of("ink"),
    soft: of("ink-soft"),
    hair: of("hair"),
    line: of("line"),
    band: of("band"),
    wash: of("wash"),
    above: of("above"),
    below: of("below"),
    shift: of("shift"),
    paper: of("paper"),
  };
}

/** Light or dark; a change draws canvases anew. */
export function usePalette(): string {
  return useComputedColorScheme("light");
}
