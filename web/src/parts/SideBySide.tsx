import { Box, type BoxProps, createPolymorphicComponent } from "@mantine/core";
import type { ReactNode } from "react";

interface Props extends BoxProps {
  /** The columns, as `grid-template-columns` has them. */
  of: string;
  gap?: number | string;
  align?: "start" | "center" | "baseline" | "stretch";
  children?: ReactNode;
}

/** Things side by side in columns of stated widths. */
export const SideBySide = createPolymorphicComponent<"div", Props>(
  ({ of, gap = 0, align, style, ...rest }: Props) => (
    <Box display="grid" style={[{ gridTemplateColumns: of, gap, alignItems: align }, style]} {...rest} />
  ),
);
