import { Box, Button, Fieldset, Popover, UnstyledButton } from "@mantine/core";
import { createContext, type ReactNode, useContext, useState } from "react";
import { Field, SelectField } from "../../parts/Field";
import { READINGS } from "./plan";

/** Closes the word a control stands in. */
const CloseWord = createContext<() => void>(() => undefined);

/** A dotted word; its control opens in place and closes when it is done. */
export function Word({
  words,
  label,
  isWrong,
  children,
}: {
  words: string | number;
  label: string;
  isWrong: boolean;
  children: ReactNode;
}) {
  const [isOpen, setOpen] = useState(false);
  return (
    <Popover opened={isOpen} onChange={setOpen} trapFocus returnFocus position="bottom-start" width={270}>
      <Popover.Target>
        <UnstyledButton
          className="word"
          data-wrong={isWrong || undefined}
          aria-label={`${label}: ${words}`}
          onClick={() => setOpen(!isOpen)}
        >
          {words}
        </UnstyledButton>
      </Popover.Target>
      <Popover.Dropdown className="change">
        <CloseWord value={() => setOpen(false)}>{children}</CloseWord>
      </Popover.Dropdown>
    </Popover>
  );
}

function LabelledField({
  label,
  value,
  onChange,
  mode,
  isFirst = false,
}: {
  label: string;
  value: string;
  onChange: (text: string) => void;
  mode?: "decimal" | "numeric";
  isFirst?: boolean;
}) {
  return (
    <label>
      {label}
      <Field
        w="100%"
        inputMode={mode}
        value={value}
        onChange={(e) => onChange(e.target.value)}
        data-autofocus={isFirst || undefined}
      />
    </label>
  );
}

export function TextControl({
  label,
  value,
  help,
  onDone,
}: {
  label: string;
  value: string;
  help: string;
  onDone: (text: string) => void;
}) {
  const close = useContext(CloseWord);
  const [text, setText] = useState(value);
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        close();
        onDone(text.trim());
      }}
    >
      <LabelledField label={label} value={text} onChange={setText} isFirst />
      <p className="soft small">{help}</p>
      <Button type="submit">Set</Button>
    </form>
  );
}

export function Choice({
  label,
  value,
  options,
  onDone,
}: {
  label: string;
  value: string;
  options: Record<string, { words: string; help: string }>;
  onDone: (value: string) => void;
}) {
  const close = useContext(CloseWord);
  return (
    <Fieldset variant="unstyled">
      <legend className="soft small">{label}</legend>
      {Object.entries(options).map(([name, { words, help }]) => (
        <Box key={name} py={3}>
          <Button
            aria-pressed={name === value}
            onClick={() => {
              close();
              onDone(name);
            }}
          >
            {words}
          </Button>
          {name === value && <span className="soft small"> · now</span>}
          {help && <div className="soft small">{help}</div>}
        </Box>
      ))}
    </Fieldset>
  );
}

export function LevelControl({
  reading,
  amount,
  onDone,
}: {
  reading: string;
  amount: number;
  onDone: (level: Record<string, number>) => void;
}) {
  const close = useContext(CloseWord);
  const [kind, setKind] = useState(reading);
  const [text, setText] = useState(String(amount));
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        close();
        onDone({ [kind]: Number(text) });
      }}
    >
      <label>
        Level, read as
        <SelectField
          w="100%"
          value={kind}
          onChange={(e) => {
            setKind(e.target.value);
            setText(String(READINGS[e.target.value]?.start ?? 4));
          }}
        >
          {Object.entries(READINGS).map(([name, r]) => (
            <option key={name} value={name}>
              {r.words}
            </option>
          ))}
        </SelectField>
      </label>
      <LabelledField label="Amount" value={text} onChange={setText} mode="decimal" isFirst />
      <p className="soft small">{READINGS[kind]?.help}</p>
      <Button type="submit">Set</Button>
    </form>
  );
}

export function PersistenceControl({
  need,
  of,
  onDone,
}: {
  need: number;
  of: number;
  onDone: (need: number, of: number) => void;
}) {
  const close = useContext(CloseWord);
  const [a, setA] = useState(String(need));
  const [b, setB] = useState(String(of));
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        close();
        onDone(Number(a), Number(b));
      }}
    >
      <LabelledField label="Flagged samples needed" value={a} onChange={setA} mode="numeric" isFirst />
      <LabelledField label="of the last" value={b} onChange={setB} mode="numeric" />
      <p className="soft small">More needed: fewer false findings, later ones.</p>
      <Button type="submit">Set</Button>
    </form>
  );
}

export type Options = Record<string, { words: string; help: string }>;

/** What every word of the sentence has: how it reads, its name, and what its control is called. */
interface WordProps {
  words: string;
  name: string;
  ask: string;
  value: string;
  isWrong: boolean;
  onDone: (value: string) => void;
}

/** A word that is one of a few. */
export function ChoiceWord({ words, name, ask, isWrong, ...control }: WordProps & { options: Options }) {
  return (
    <Word words={words} label={name} isWrong={isWrong}>
      <Choice label={ask} {...control} />
    </Word>
  );
}

/** A word that is written. */
export function TextWord({ words, name, ask, isWrong, ...control }: WordProps & { help: string }) {
  return (
    <Word words={words} label={name} isWrong={isWrong}>
      <TextControl label={ask} {...control} />
    </Word>
  );
}
