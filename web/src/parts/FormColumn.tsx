import { Stack, type StackProps } from "@mantine/core";
import type { ComponentProps } from "react";

interface Props extends Pick<StackProps, "mt"> {
  onSubmit: ComponentProps<"form">["onSubmit"];
  children: ComponentProps<"form">["children"];
}

/** A form whose fields stand one under the other. */
export function FormColumn({ onSubmit, mt, children }: Props) {
  return (
    <form onSubmit={onSubmit} className="fields">
      <Stack gap={14} mt={mt}>
        {children}
      </Stack>
    </form>
  );
}
