import type { ReactNode } from "react";
import { Trouble, Waiting } from "../../parts/ask";
import "./settings.css";

interface Props {
  title: string;
  /** What there is, in a few words. */
  sum?: string;
  action?: ReactNode;
  isPending?: boolean;
  error?: unknown;
  children?: ReactNode;
}

/** One part of the settings: a title with a sentence and an action, and what it is about. */
export function Section({ title, sum, action, isPending, error, children }: Props) {
  return (
    <section className="setting" aria-label={title}>
      <header>
        <h2>{title}</h2>
        <span className="soft small">{sum}</span>
        {action}
      </header>
      {isPending && <Waiting what={`Reading: ${title.toLowerCase()}`} />}
      {error !== null && error !== undefined && <Trouble error={error} />}
      {children}
    </section>
  );
}
