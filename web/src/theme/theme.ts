import { createTheme } from "@mantine/core";

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
  headings: { fontFamily: "var(--serif)", fontWeight: "500" },
  components: {
    Popover: {
      defaultProps: { shadow: "none", radius: 0, withArrow: false, transitionProps: { duration: 0 } },
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
    Checkbox: { defaultProps: { radius: 0 } },
    Tooltip: { defaultProps: { radius: 0 } },
    // An action is a bold word with a line under it; only `variant="filled"` is a filled button.
    Button: { defaultProps: { variant: "subtle", size: "compact-sm", classNames: { root: "button" } } },
    Table: { defaultProps: { withRowBorders: false } },
    TextInput: { defaultProps: { size: "sm" } },
    TagsInput: {
      defaultProps: { size: "sm", comboboxProps: { shadow: "none", transitionProps: { duration: 0 } } },
    },
    NativeSelect: { defaultProps: { size: "sm" } },
  },
});
