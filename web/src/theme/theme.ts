import { type CSSVariablesResolver, createTheme } from "@mantine/core";

const ink = [
  "#f3f5f6",
  "#e2e7ea",
  "#c3ccd2",
  "#a1aeb8",
  "#8392a0",
  "#6f808f",
  "#4b5b68",
  "#33465a",
  "#22364a",
  "#16283a",
] as const;

/** The component library without its stock blue and radius. */
export const theme = createTheme({
  primaryColor: "ink",
  colors: { ink: [...ink] },
  defaultRadius: 0,
  fontFamily: "var(--sans)",
  fontFamilyMonospace: "var(--mono)",
  fontSizes: { md: "14px" },
  lineHeights: { md: "1.45" },
  components: {
    Popover: {
      defaultProps: {
        shadow: "none",
        radius: 0,
        withArrow: false,
        transitionProps: { duration: 0 },
        // A long list of choices scrolls within the window.
        middlewares: { flip: true, shift: true, size: { padding: 8 } },
      },
      styles: { dropdown: { overflowY: "auto" } },
    },
    Modal: {
      defaultProps: {
        // It would lock scrolling by a style without the nonce.
        lockScroll: false,
        radius: 0,
        shadow: "none",
        overlayProps: { backgroundOpacity: 0.35 },
        transitionProps: { duration: 0 },
      },
    },
    // A box is a target by itself, whatever stands beside it.
    Checkbox: {
      defaultProps: { radius: 0, my: 3 },
      vars: () => ({ root: { "--checkbox-size": "24px" } }),
    },
    Radio: { vars: () => ({ root: { "--radio-size": "24px" } }) },
    InputWrapper: { styles: { label: { fontWeight: 400 } } },
    Tooltip: { defaultProps: { radius: 0 } },
    // An action is a bold word with a line under it; only `variant="filled"` is a filled button.
    // It is a target by itself too: what comes in beside it may bring its neighbours nearer.
    Button: {
      defaultProps: {
        variant: "subtle",
        size: "compact-sm",
        classNames: { root: "button" },
        miw: 24,
        mih: 24,
      },
    },
    Table: { defaultProps: { withRowBorders: false } },
    TextInput: { defaultProps: { size: "sm" } },
    TagsInput: {
      defaultProps: { size: "sm", comboboxProps: { shadow: "none", transitionProps: { duration: 0 } } },
    },
    NativeSelect: { defaultProps: { size: "sm" } },
  },
});

/** The library's own colours: its sheet states them for each scheme. */
const LIBRARY = {
  "--mantine-color-body": "var(--paper)",
  "--mantine-color-text": "var(--ink)",
  "--mantine-color-dimmed": "var(--ink-soft)",
  "--mantine-color-default-border": "var(--line)",
  "--mantine-color-disabled": "var(--wash)",
  "--mantine-color-disabled-color": "var(--ink-soft)",
};

/** A sea chart drawn in ink: paper, hairlines, one warm and one cool signal. */
export const variables: CSSVariablesResolver = () => ({
  variables: {
    "--sans": '"Atkinson Hyperlegible Next", system-ui, sans-serif',
    "--mono": '"Atkinson Hyperlegible Mono", ui-monospace, monospace',
    "--serif": '"Alegreya", Georgia, serif',
  },
  light: {
    ...LIBRARY,
    "--paper": "#f6f1e4",
    "--panel": "#fbf8ef",
    "--select": "#efe5cb",
    "--ink": "#16283a",
    "--ink-soft": "#4b5b68",
    "--hair": "#d8cdb2",
    "--line": "#7d8c94",
    "--band": "rgb(22 40 58 / 17%)",
    "--wash": "rgb(22 40 58 / 6%)",
    "--above": "#b83a26",
    "--below": "#0b6a6e",
    "--shift": "#875d00",
    "--focus": "#1b5fa8",
  },
  dark: {
    ...LIBRARY,
    "--paper": "#0e1c26",
    "--panel": "#132733",
    "--select": "#17313f",
    "--ink": "#eef2f2",
    "--ink-soft": "#a9b8c0",
    "--hair": "#2b4352",
    "--line": "#6d8390",
    "--band": "rgb(200 220 230 / 20%)",
    "--wash": "rgb(200 220 230 / 7%)",
    "--above": "#ff7d61",
    "--below": "#45bdb1",
    "--shift": "#e2aa45",
    "--focus": "#7db8ff",
  },
});
