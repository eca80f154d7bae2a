import { Button } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, get } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field } from "../../parts/Field";
import { sure } from "../../parts/sure";
import { dayOf } from "../../parts/words";

const DAYS_AHEAD = 30;
const isoDay = (ms: number) => new Date(ms).toISOString().slice(0, 10);

/** A link that shows this board alone to somebody who never signs in, until a day. */
export function ShareBoard({ board }: { board: number }) {
  const client = useQueryClient();
  const [isOpen, setOpen] = useState(false);
  const [until, setUntil] = useState(isoDay(Date.now() + DAYS_AHEAD * 86_400_000));
  const [url, setUrl] = useState("");
  const { error, isBusy, attempt } = useAttempt();
  const key = ["board-links", board];
  const links = useQuery({
    queryKey: key,
    enabled: isOpen,
    queryFn: () => get(api.GET("/api/v1/boards/{id}/share", { params: { path: { id: board } } })),
  });
  const make = () =>
    attempt(async () => {
      const made = await get(
        api.POST("/api/v1/boards/{id}/share", {
          params: { path: { id: board } },
          body: { until: until as never },
        }),
      );
      setUrl(made.url);
      await client.invalidateQueries({ queryKey: key });
    });
  const end = (link: number) =>
    attempt(async () => {
      await api.DELETE("/api/v1/boards/{id}/share/{link}", { params: { path: { id: board, link } } });
      setUrl("");
      await client.invalidateQueries({ queryKey: key });
    });
  if (!isOpen) return <Button onClick={() => setOpen(true)}>Show it to others …</Button>;
  return (
    <section aria-label="Links" className="small">
      <p className="tight">
        Whoever has the link sees this board and nothing else, through{" "}
        <Field
          type="date"
          aria-label="The last day of the link"
          value={until}
          onChange={(event) => setUntil(event.currentTarget.value)}
        />{" "}
        <Button variant="filled" disabled={isBusy} onClick={() => void make()}>
          Make a link
        </Button>{" "}
        <Button onClick={() => setOpen(false)}>Close</Button>
      </p>
      {url && (
        <p role="status" className="tight">
          <span className="secret">{url}</span> <span className="soft">It is shown only now.</span>
        </p>
      )}
      {links.data?.map((link) => (
        <p key={link.id} className="tight">
          {link.hint}… by {link.created_by}, until {dayOf(link.expires_at - 1, "UTC")}{" "}
          <Button
            disabled={isBusy}
            onClick={() =>
              sure("End", `the link ${link.hint}…`, "Whoever has it sees the board no more.", () =>
                end(link.id),
              )
            }
          >
            End it
          </Button>
        </p>
      ))}
      {error !== null && <Trouble error={error} />}
    </section>
  );
}
