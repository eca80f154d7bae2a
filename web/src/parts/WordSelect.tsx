import { NativeSelect } from "@mantine/core";

interface Props<T extends string> {
  label: string;
  value: T;
  choices: readonly (readonly [T, string])[];
  onChange: (value: T) => void;
}

/** A word with a dotted line under it that can be changed in place. */
export function WordSelect<T extends string>({ label, value, choices, onChange }: Props<T>) {
  return (
    <NativeSelect
      aria-label={label}
      variant="unstyled"
      size="xs"
      classNames={{ root: "word-select", input: "word" }}
      rightSection={null}
      value={value}
      onChange={(e) => onChange(e.currentTarget.value as T)}
      data={choices.map(([id, words]) => ({ value: id, label: words }))}
    />
  );
}
