import { useState } from "react";
import { Field } from "./Field";

/** A filter whose text is kept in the address: what is typed shows at once, the address follows. */
export function FilterField(props: {
  label: string;
  hint: string;
  value: string;
  onChange: (text: string) => void;
}) {
  const [text, setText] = useState(props.value);
  return (
    <Field
      w="240px"
      aria-label={props.label}
      placeholder={props.hint}
      value={text}
      onChange={(e) => {
        setText(e.target.value);
        props.onChange(e.target.value);
      }}
    />
  );
}
