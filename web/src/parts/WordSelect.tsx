import { SelectField } from "./Field";

interface Props<T extends string> {
  label: string;
  value: T;
  choices: readonly (readonly [T, string])[];
  onChange: (value: T) => void;
  title?: string;
}

/** A word with a dotted line under it that can be changed in place. */
export function WordSelect<T extends string>({ label, value, choices, onChange, title }: Props<T>) {
  return (
    <SelectField
      className="word"
      aria-label={label}
      title={title}
      value={value}
      onChange={(e) => onChange(e.target.value as T)}
    >
      {choices.map(([id, words]) => (
        <option key={id} value={id}>
          {words}
        </option>
      ))}
    </SelectField>
  );
}
