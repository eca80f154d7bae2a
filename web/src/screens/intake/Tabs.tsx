import { NavLink } from "react-router";
import partsCss from "../../parts/parts.module.css";

const PARTS = [
  { to: "/intake", words: "Files" },
  { to: "/intake/live", words: "Pushes and feeds" },
  { to: "/intake/identity", words: "Identity" },
  { to: "/intake/streams", words: "Streams" },
  { to: "/intake/formulas", words: "Formulas" },
  { to: "/intake/calendars", words: "Calendars" },
];

/** The parts of intake, each with an address of its own. */
export function Tabs() {
  return (
    <nav className={partsCss.parts} aria-label="Parts of intake">
      {PARTS.map((p) => (
        <NavLink key={p.to} to={p.to} end>
          {p.words}
        </NavLink>
      ))}
    </nav>
  );
}
