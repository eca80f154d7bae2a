import { Button, FileButton } from "@mantine/core";
import { type DragEvent, useState } from "react";
import { useSearchParams } from "react-router";
import { sendFile } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Batches } from "./Batches";
import { Look } from "./Look";
import { Tabs } from "./Tabs";
import "./intake.css";

/** Bring in a file: see what was guessed and what is wrong, correct it, store it, scan it. */
export default function Intake() {
  const [params, setParams] = useSearchParams();
  const upload = Number(params.get("upload")) || null;
  const [isOver, setOver] = useState(false);
  const { error, isBusy: isSending, attempt } = useAttempt();
  const take = (file?: File) =>
    attempt(async () => {
      if (!file) return;
      const { id } = await sendFile<{ id: number }>("/api/v1/uploads", file);
      setParams({ upload: String(id) });
    });
  const drop = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    void take(event.dataTransfer.files[0]);
  };
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: dropping is a shortcut; the button beside it does the same
    <div
      className="padded intake"
      data-over={isOver || undefined}
      onDragOver={(e) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
    >
      {upload === null ? (
        <>
          <TopBar>
            <h1>Intake</h1>
          </TopBar>
          <Tabs />
          <h1>Bring in a file</h1>
          <p className="soft">
            CSV, TSV, JSON Lines, Parquet or a log, also gzipped. Nothing is stored before you have seen what
            it will become. A file that fits a kept layout is read by it.
          </p>
          <div className="drop">
            <FileButton
              onChange={(file) => void take(file ?? undefined)}
              inputProps={{ "aria-label": "Choose a file" }}
            >
              {(props) => (
                <Button {...props} variant="filled" disabled={isSending}>
                  {isSending ? "Reading the file" : "Choose a file"}
                </Button>
              )}
            </FileButton>{" "}
            <span className="soft">or drop it anywhere here</span>
          </div>
          {error !== null && <Trouble error={error} />}
          <Batches />
        </>
      ) : (
        <Look key={upload} upload={upload} onAnother={() => setParams({})} />
      )}
    </div>
  );
}
