import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, type ReactNode, Suspense, useEffect, useState } from "react";
import { Route, Routes } from "react-router";
import { type Connection, listenForHints } from "./api/hints";
import { Frame } from "./frame";
import { Trouble, Waiting } from "./parts/ask";
import { Guard } from "./parts/Guard";
import { sessionQuery } from "./parts/session";

const Join = lazy(() => import("./screens/sign-in/Join"));
const SignIn = lazy(() => import("./screens/sign-in/SignIn"));
const TideTable = lazy(() => import("./screens/tide-table/TideTable"));
const Workbench = lazy(() => import("./screens/workbench/Workbench"));
const Choose = lazy(() => import("./screens/workbench/Choose"));
const Rounds = lazy(() => import("./screens/review/Rounds"));
const Review = lazy(() => import("./screens/review/Review"));
const Incidents = lazy(() => import("./screens/incidents/Incidents"));
const Incident = lazy(() => import("./screens/incidents/Incident"));
const Logbook = lazy(() => import("./screens/logbook/Logbook"));
const Effect = lazy(() => import("./screens/logbook/Effect"));
const Scorecards = lazy(() => import("./screens/scorecard/Scorecards"));
const Scorecard = lazy(() => import("./screens/scorecard/Scorecard"));
const Comparison = lazy(() => import("./screens/scorecard/Comparison"));
const Published = lazy(() => import("./screens/scorecard/Published"));
const Intake = lazy(() => import("./screens/intake/Intake"));
const Live = lazy(() => import("./screens/intake/Live"));
const Identity = lazy(() => import("./screens/intake/Identity"));
const Streams = lazy(() => import("./screens/intake/Streams"));
const Formulas = lazy(() => import("./screens/intake/Formulas"));
const Boards = lazy(() => import("./screens/boards/Boards"));
const Board = lazy(() => import("./screens/boards/Board"));
const Shared = lazy(() => import("./screens/boards/Shared"));
const Lookouts = lazy(() => import("./screens/lookouts/Lookouts"));
const Lookout = lazy(() => import("./screens/lookouts/Lookout"));
const Look = lazy(() => import("./screens/look/Look"));
const Plans = lazy(() => import("./screens/plans/Plans"));
const Settings = lazy(() => import("./screens/settings/Settings"));
const Calendars = lazy(() => import("./screens/intake/Calendars"));

/** A screen comes as a file of its own: until it is there, and where it cannot be had, that is what is shown. */
function Opening({ children }: { children: ReactNode }) {
  return (
    <Guard>
      <Suspense fallback={<Waiting what="Opening" />}>{children}</Suspense>
    </Guard>
  );
}

export function App() {
  const client = useQueryClient();
  const session = useQuery(sessionQuery);
  const signedIn = Boolean(session.data?.name);
  useEffect(() => {
    const out = () => client.invalidateQueries({ queryKey: ["session"] });
    window.addEventListener("watchtide:signed-out", out);
    return () => window.removeEventListener("watchtide:signed-out", out);
  }, [client]);
  const [connection, setConnection] = useState<Connection>({ isOpen: true });
  useEffect(() => (signedIn ? listenForHints(client, setConnection) : undefined), [signedIn, client]);

  if (session.isPending) return <Waiting what="Opening Watch Tide" />;
  if (session.isError) return <Trouble error={session.error} retry={() => session.refetch()} />;
  if (window.location.pathname === "/join")
    return (
      <Opening>
        <Join />
      </Opening>
    );
  // A link shows its board whoever is signed in, or nobody.
  if (window.location.pathname.startsWith("/shared/"))
    return (
      <Opening>
        <Routes>
          <Route path="/shared/:link" element={<Shared />} />
        </Routes>
      </Opening>
    );
  if (!session.data.name)
    return (
      <Opening>
        <SignIn isDemo={session.data.is_demo} />
      </Opening>
    );
  return (
    <Frame person={session.data.name} role={session.data.role ?? ""} connection={connection}>
      <Opening>
        <Routes>
          <Route path="/" element={<TideTable />} />
          <Route path="/workbench/:stream" element={<Workbench />} />
          <Route path="/workbench" element={<Choose />} />
          <Route path="/review" element={<Rounds />} />
          <Route path="/review/:round" element={<Review />} />
          <Route path="/incidents" element={<Incidents />} />
          <Route path="/incidents/proposed/:finding" element={<Incident />} />
          <Route path="/incidents/:incident" element={<Incident />} />
          <Route path="/logbook" element={<Logbook />} />
          <Route path="/logbook/effect" element={<Effect />} />
          <Route path="/scorecards" element={<Scorecards />} />
          <Route path="/scorecards/compare" element={<Comparison />} />
          <Route path="/scorecards/:scan" element={<Scorecard />} />
          <Route path="/published/:published" element={<Published />} />
          <Route path="/intake" element={<Intake />} />
          <Route path="/intake/live" element={<Live />} />
          <Route path="/intake/identity" element={<Identity />} />
          <Route path="/intake/streams" element={<Streams />} />
          <Route path="/intake/formulas" element={<Formulas />} />
          <Route path="/intake/calendars" element={<Calendars />} />
          <Route path="/lookouts" element={<Lookouts />} />
          <Route path="/lookouts/:lookout" element={<Lookout />} />
          <Route path="/boards" element={<Boards />} />
          <Route path="/boards/:board" element={<Board />} />
          <Route path="/look" element={<Look />} />
          <Route path="/plans" element={<Plans />} />
          <Route path="/plans/:plan" element={<Plans />} />
          <Route path="/settings" element={<Settings />} />
          <Route path="/settings/:part" element={<Settings />} />
          <Route path="*" element={<NoSuchPage />} />
        </Routes>
      </Opening>
    </Frame>
  );
}

function NoSuchPage() {
  return (
    <div className="padded empty">
      <h2>There is no such page</h2>
      <p>
        The <a href="/">tide table</a> is where to start.
      </p>
    </div>
  );
}
