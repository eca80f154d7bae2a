import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, get } from "../../api/client";
import { Trouble, Waiting } from "../../parts/ask";
import boardsCss from "./boards.module.css";
import { Wall } from "./Wall";
import type { Pane, Shown } from "./words";

/** A board behind a link: nothing else, for somebody who never signs in. */
export default function Shared() {
  const text = useParams().link ?? "";
  const board = useQuery({
    queryKey: ["shared", text],
    queryFn: () => get(api.GET("/api/v1/shared/{text}", { params: { path: { text } } })),
    // Panes come and go while it hangs on a wall.
    refetchInterval: 60_000,
  });
  if (board.isPending) return <Waiting what="Opening the board" />;
  if (board.isError && !board.data) return <Trouble error={board.error} retry={() => board.refetch()} />;
  return (
    <main className={boardsCss.aloneFrame}>
      <Wall
        isShared
        name={board.data.name}
        panes={board.data.panes as Pane[]}
        keyOf={(place) => ["shared", text, board.data.version, place]}
        read={(place) =>
          get(
            api.GET("/api/v1/shared/{text}/panes/{place}", { params: { path: { text, place } } }),
          ) as unknown as Promise<Shown>
        }
      />
    </main>
  );
}
