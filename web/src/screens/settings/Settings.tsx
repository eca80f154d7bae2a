import { useQuery } from "@tanstack/react-query";
import { NavLink, useParams } from "react-router";
import { api, get } from "../../api/client";
import { TopBar } from "../../frame";
import partsCss from "../../parts/parts.module.css";
import { SideBySide } from "../../parts/SideBySide";
import { fleetZone } from "../../parts/zones";
import { People } from "./People";
import { Section } from "./Section";
import { Sessions } from "./Sessions";
import { Storage } from "./Storage";
import { Tokens } from "./Tokens";
import { Trail } from "./Trail";

const PARTS = [
  { part: "", words: "All", isForAll: true },
  { part: "you", words: "You", isForAll: true },
  { part: "people", words: "People" },
  { part: "tokens", words: "Tokens", isForAll: true },
  { part: "trail", words: "Audit trail" },
  { part: "storage", words: "Storage" },
  { part: "about", words: "About", isForAll: true },
];
/** Lines of the trail beside everything else. */
const FEW = 8;

/** Accounts, sessions, tokens, what was done, what takes room. */
export default function Settings() {
  const { part = "" } = useParams();
  const session = useQuery({ queryKey: ["session"], queryFn: () => get(api.GET("/api/v1/session")) });
  const isAdmin = session.data?.role === "admin";
  const own = session.data?.name ?? "";
  const shown = PARTS.filter((p) => isAdmin || p.isForAll);
  const one: Record<string, React.ReactNode> = {
    you: <Sessions />,
    people: isAdmin && <People own={own} />,
    tokens: <Tokens />,
    trail: isAdmin && <Trail />,
    storage: isAdmin && <Storage />,
    about: <About version={session.data?.version} />,
  };
  return (
    <div className="padded">
      <TopBar>
        <h1>Settings</h1>
      </TopBar>
      <nav className={partsCss.parts} aria-label="Parts of settings">
        {shown.map((p) => (
          <NavLink key={p.part} to={`/settings${p.part && `/${p.part}`}`} end>
            {p.words}
          </NavLink>
        ))}
        <NavLink to="/intake/calendars">Calendars</NavLink>
      </nav>
      {part ? (
        <SideBySide of="repeat(auto-fit, minmax(min(100%, 480px), 1fr))" gap="0 42px" maw={860}>
          {one[part] || <p className="soft">This part is for admins.</p>}
        </SideBySide>
      ) : (
        <SideBySide of="repeat(auto-fit, minmax(min(100%, 480px), 1fr))" gap="0 42px">
          <div>
            {one.people}
            {one.tokens}
          </div>
          <div>
            {one.you}
            {isAdmin && <Trail most={FEW} />}
            {one.storage}
            {one.about}
          </div>
        </SideBySide>
      )}
    </div>
  );
}

function About({ version }: { version?: string }) {
  return (
    <Section title="About">
      <p>
        Watch Tide {version}. Times on this screen are in {fleetZone()}. The interface for scripts is
        described at <a href="/api/v1/schema">/api/v1/schema</a>; <a href="/readyz">/readyz</a> names what is
        missing or fails, and <a href="/metrics">/metrics</a> has the figures about the server itself.
      </p>
    </Section>
  );
}
