import { Box, Button } from "@mantine/core";
import { Dropzone } from "@mantine/dropzone";
import "@mantine/dropzone/styles.css";
import { useRef } from "react";
import { useSearchParams } from "react-router";
import { sendFile } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Batches } from "./Batches";
import { Look } from "./Look";
import { Tabs } from "./Tabs";

/** Bring in a file: see what was guessed and what is wrong, correct it, store it, scan it. */
export default function Intake() {
  const [params, setParams] = useSearchParams();
  const upload = Number(params.get("upload")) || null;
  const choose = useRef<() => void>(null);
  const { error, isBusy: isSending, attempt } = useAttempt();
  const take = (file?: File) =>
    attempt(async () => {
      if (!file) return;
      const { id } = await sendFile<{ id: number }>("/api/v1/uploads", file);
      setParams({ upload: String(id) });
    });
  return (
    <div className="padded">
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
          <Dropzone
            onDrop={(files) => void take(files[0])}
            multiple={false}
            loading={isSending}
            activateOnClick={false}
            openRef={choose}
            inputProps={{ "aria-label": "Choose a file" }}
            p={26}
            my={14}
            bg="transparent"
            className="drop"
          >
            <Box style={{ pointerEvents: "auto" }}>
              <Button variant="filled" disabled={isSending} onClick={() => choose.current?.()}>
                {isSending ? "Reading the file" : "Choose a file"}
              </Button>{" "}
              <span className="soft">or drop it here</span>
            </Box>
          </Dropzone>
          {error !== null && <Trouble error={error} />}
          <Batches />
        </>
      ) : (
        <Look key={upload} upload={upload} onAnother={() => setParams({})} />
      )}
    </div>
  );
}
