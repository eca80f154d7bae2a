import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, get } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { SelectField } from "../../parts/Field";
import { boardsQuery } from "./query";
import { below, type Pane } from "./words";

/** Put what is on show onto a board, below its other panes. */
export function AddToBoard({ pane }: { pane: Omit<Pane, "x" | "y" | "w" | "h" | "title"> }) {
  const boards = useQuery(boardsQuery);
  const [added, setAdded] = useState<{ id: number; name: string } | null>(null);
  const { error, isBusy, attempt } = useAttempt();
  const add = (id: number) =>
    attempt(async () => {
      const board = await get(api.GET("/api/v1/boards/{id}", { params: { path: { id } } }));
      const panes = board.panes as Pane[];
      const next = [...panes, { ...pane, title: "", x: 0, y: below(panes), w: 6, h: 6 }];
      await api.PATCH("/api/v1/boards/{id}", {
        params: { path: { id } },
        body: { panes: next as never, version: board.version },
      });
      setAdded({ id, name: board.name });
    });
  if (!boards.data?.length) return null;
  return (
    <span>
      <SelectField
        className="word"
        aria-label="Add to a board"
        value=""
        disabled={isBusy}
        onChange={(event) => void add(Number(event.currentTarget.value))}
      >
        <option value="">Add to a board …</option>
        {boards.data.map((board) => (
          <option key={board.id} value={board.id}>
            {board.name}
          </option>
        ))}
      </SelectField>
      {added && (
        <span role="status">
          {" "}
          It is on <Link to={`/boards/${added.id}`}>{added.name}</Link>.
        </span>
      )}
      {error !== null && <Trouble error={error} />}
    </span>
  );
}
