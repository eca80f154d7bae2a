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

/** By scheme: to read one off the page lays all of it out anew, and a screen of panes would do so for each. */
const READ = new Map<string, Palette & { mono: string }>();

/** The colours in force and the font of figures, read off the page, for what is drawn on canvas. */
export function palette(): Palette & { mono: string } {
  const scheme = document.documentElement.getAttribute("data-mantine-color-scheme") ?? "";
  const known = READ.get(scheme);
  if (known) return known;
  const read = readOff(getComputedStyle(document.body));
  // Before its style sheet has come a page has no colours to keep.
  if (read.ink) READ.set(scheme, read);
  return read;
}

function readOff(style: CSSStyleDeclaration): Palette & { mono: string } {
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
    mono: of("mono"),
  };
}

/** Light or dark; a change draws canvases anew. */
export function usePalette(): string {
  return useComputedColorScheme("light");
}
