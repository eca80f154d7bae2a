import { Group } from "@mantine/core";
import type { ComponentProps } from "react";

/** A form whose fields stand in a row. */
export function FormRow({ children, ...rest }: ComponentProps<"form">) {
  return (
    <form className="ruled fields" {...rest}>
      <Group gap="12px 18px" align="end" py={12}>
        {children}
      </Group>
    </form>
  );
}
