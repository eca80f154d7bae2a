import { Input } from "@mantine/core";
import type { ComponentProps } from "react";

// A sentence whose words are controls needs them in line: the library's own fields are blocks with a label above.
const inLine = (input?: string) =>
  ({ variant: "unstyled", classNames: { wrapper: "control", input } }) as const;

type FieldProps = Omit<ComponentProps<"input">, "size"> & { w?: string; maw?: string };

/** A text, number or date field in line. */
export function Field({ className, ...rest }: FieldProps) {
  return <Input {...inLine(className)} {...rest} />;
}

/** A choice in line; its options are children. */
export function SelectField({
  className,
  ...rest
}: Omit<ComponentProps<"select">, "size"> & { w?: string; maw?: string }) {
  return <Input component="select" {...inLine(className)} {...rest} />;
}

/** A field of several lines. */
export function AreaField({ className, ...rest }: ComponentProps<"textarea"> & { w?: string; maw?: string }) {
  return <Input component="textarea" {...inLine(className)} {...rest} />;
}
