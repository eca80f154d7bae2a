import { Button, Group } from "@mantine/core";
import { useFullscreenElement } from "@mantine/hooks";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, get } from "../../api/client";
import { TopBar } from "../../frame";
import { useAddress, withNames } from "../../parts/address";
import { Trouble, Waiting } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { WordSelect } from "../../parts/WordSelect";
import { AddPane } from "./AddPane";
import boardsCss from "./boards.module.css";
import { boardsQuery } from "./query";
import { ShareBoard } from "./ShareBoard";
import { Wall } from "./Wall";
import { type Board as Data, type Pane, type Shown, settled, shifted } from "./words";

const TURNS = [
  ["0", "stays"],
  ["30", "turns every 30 s"],
  ["60", "turns every minute"],
  ["300", "turns every 5 min"],
] as const;

/** One board: looked at, arranged by hand or keys, put on a wall, and shown to others. */
export default function Board() {
  const id = Number(useParams().board);
  const [params, change] = useAddress();
  const { ref, toggle, fullscreen } = useFullscreenElement();
  const board = useQuery({
    queryKey: ["boards", id],
    queryFn: () => get(api.GET("/api/v1/boards/{id}", { params: { path: { id } } })),
  });
  const turn = params.get("turn") ?? "0";
  useTurning(id, Number(turn));
  const client = useQueryClient();
  const { error, attempt } = useAttempt();
  if (board.isPending) return <Waiting what="Opening the board" />;
  if (board.isError) return <Trouble error={board.error} retry={() => board.refetch()} />;
  const panes = board.data.panes as Pane[];
  const isArranged = params.get("arrange") === "1";
  const put = (next: Pane[]) => {
    // Shown at once; what the server says holds.
    client.setQueryData(["boards", id], { ...board.data, panes: next } as Data);
    void attempt(async () => {
      const kept = await get(
        api.PATCH("/api/v1/boards/{id}", { params: { path: { id } }, body: { panes: next as never } }),
      );
      client.setQueryData(["boards", id], kept);
    }).then((isKept) => {
      if (!isKept) void board.refetch();
    });
  };
  const arrange = isArranged
    ? {
        move: (place: number, by: Parameters<typeof shifted>[1]) =>
          put(
            settled(
              panes.map((p, i) => (i === place ? shifted(p, by) : p)),
              place,
            ),
          ),
        remove: (place: number) => put(panes.filter((_, i) => i !== place)),
      }
    : undefined;
  return (
    <div className="padded">
      <TopBar>
        <Link to="/boards" className="soft">
          Boards
        </Link>
        <h1>{board.data.name}</h1>
      </TopBar>
      <Group gap="6px 18px">
        <Button
          onClick={() => change((a) => withNames(a, { arrange: isArranged ? null : 1 }), { replace: true })}
        >
          {isArranged ? "Done" : "Arrange"}
        </Button>
        <Button onClick={() => void toggle()}>{fullscreen ? "Leave full screen" : "Full screen"}</Button>
        <span>
          This board{" "}
          <WordSelect
            label="Turns to the next board"
            value={TURNS.find(([t]) => t === turn)?.[0] ?? "0"}
            choices={TURNS}
            onChange={(next) =>
              change((a) => withNames(a, { turn: next === "0" ? null : next }), { replace: true })
            }
          />
        </span>
        <ShareBoard board={id} />
      </Group>
      {error !== null && <Trouble error={error} />}
      {isArranged && <AddPane panes={panes} add={(pane) => put([...panes, pane])} />}
      <div ref={ref} className={boardsCss.wallFrame}>
        <Wall
          name={board.data.name}
          panes={panes}
          arrange={arrange}
          keyOf={(place) => ["pane", id, JSON.stringify({ ...panes[place], x: 0, y: 0, w: 0, h: 0 })]}
          read={(place) =>
            get(
              api.GET("/api/v1/boards/{id}/panes/{place}", { params: { path: { id, place } } }),
            ) as unknown as Promise<Shown>
          }
        />
      </div>
    </div>
  );
}

/** Go on to the next board after so many seconds, and from the last to the first. */
function useTurning(id: number, seconds: number) {
  const boards = useQuery({ ...boardsQuery, enabled: seconds > 0 });
  const navigate = useNavigate();
  const ids = boards.data?.map((one) => one.id).join() ?? "";
  useEffect(() => {
    if (!seconds || !ids) return;
    const all = ids.split(",").map(Number);
    const next = all[(all.indexOf(id) + 1) % all.length];
    const timer = window.setTimeout(
      () => navigate(`/boards/${next}?turn=${seconds}`, { replace: true }),
      seconds * 1_000,
    );
    return () => window.clearTimeout(timer);
  }, [id, ids, seconds, navigate]);
}
