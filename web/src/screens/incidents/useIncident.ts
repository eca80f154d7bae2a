import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { api, type Finding, get, type Incident, onlyIf } from "../../api/client";
import { useAttempt } from "../../parts/attempt";
import { VERDICT_WORDS } from "../../parts/marks";
import type { Choice, Judgement } from "../../parts/Verdicts";
import { plural } from "../../parts/words";

interface Given {
  words: string;
  entries: number[];
}

interface Changes {
  title?: string;
  cause?: string;
  note?: string;
  state?: "open" | "closed" | "apart";
  take?: boolean;
}

/** What may be done with an incident, or with one that is only proposed. */
export function useIncident(incident: Incident) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const { error, isBusy, attempt } = useAttempt();
  // A verdict that kept a proposal comes along to the page of what it became, to be taken back there.
  const [given, setGiven] = useState<Given | null>((useLocation().state as Given | null) ?? null);
  // A verdict over several findings is shown before it is written.
  const [pending, setPending] = useState<Choice<Judgement> | null>(null);
  const [cause, setCause] = useState(incident.cause);
  const id = incident.id;

  const doing = async (work: () => Promise<unknown>) => {
    if (isBusy) return;
    await attempt(async () => {
      await work();
      await client.invalidateQueries();
      return "";
    });
  };
  const makeOf = (state: "open" | "apart") =>
    get(
      api.POST("/api/v1/incidents", {
        body: { findings: incident.members.map((f) => f.id), title: incident.title, state },
      }),
    );
  const keep = () =>
    doing(async () => {
      const kept = await makeOf("open");
      navigate(`/incidents/${kept.id}`, { replace: true });
    });
  const setApart = () =>
    doing(async () => {
      await makeOf("apart");
      navigate("/incidents", { replace: true });
    });
  const change = (body: Changes) =>
    doing(() =>
      api.PATCH("/api/v1/incidents/{id}", { params: { path: { id: id ?? 0 } }, body, ...onlyIf(incident) }),
    );
  const move = (finding: Finding, out: boolean) =>
    doing(() =>
      api.POST("/api/v1/incidents/{id}/findings", {
        params: { path: { id: id ?? 0 } },
        body: { findings: [finding.id], out },
      }),
    );
  const write = ({ verdict }: Choice<Judgement>) =>
    doing(async () => {
      setPending(null);
      // A verdict on what was proposed keeps it.
      const kept = id ?? (await makeOf("open")).id ?? 0;
      const { entries } = await get(
        api.POST("/api/v1/incidents/{id}/verdict", {
          params: { path: { id: kept } },
          body: { verdict, cause },
        }),
      );
      const now = { words: `${VERDICT_WORDS[verdict]} on ${plural(entries.length, "finding")}`, entries };
      if (id === null) navigate(`/incidents/${kept}`, { replace: true, state: now });
      else setGiven(now);
    });
  /** Over one finding it is written at once; over several, when it was given a second time. */
  const judge = (choice: Choice<Judgement>) => {
    if (incident.open < 2 || pending?.verdict === choice.verdict) void write(choice);
    else setPending(choice);
  };
  const undo = () =>
    given &&
    doing(async () => {
      await api.POST("/api/v1/incidents/{id}/verdict/undo", {
        params: { path: { id: id ?? 0 } },
        body: { entries: given.entries },
      });
      setGiven(null);
    });
  const leave = () => setPending(null);
  return { error, isBusy, given, pending, leave, cause, setCause, keep, setApart, change, move, judge, undo };
}

export type IncidentWork = ReturnType<typeof useIncident>;
