import { Box, Button } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field, SelectField } from "../../parts/Field";
import type { Lookout } from "./words";

/** A limit that is announced before it is reached, as a sentence whose words can be changed. */
export function Limit({ lookout }: { lookout: Lookout }) {
  const client = useQueryClient();
  const { error, isBusy, attempt } = useAttempt();
  const [isOpen, setOpen] = useState(false);
  const limit = lookout.limit ?? {};
  const side = limit.below != null ? "below" : "above";
  const value = limit.above ?? limit.below;
  const keep = (body: object) =>
    attempt(async () => {
      await api.PATCH("/api/v1/lookouts/{id}", {
        params: { path: { id: lookout.id } },
        body: { limit: body } as never,
      });
      await client.invalidateQueries({ queryKey: ["lookouts"] });
      setOpen(false);
    });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    void keep({ [String(form.get("side"))]: Number(form.get("value")), within: String(form.get("within")) });
  };
  if (isOpen)
    return (
      <Box component="form" lh={1.75} m="4px 0 8px" className="sentence" aria-label="Limit" onSubmit={submit}>
        Tell the routes when a stream is foreseen to go{" "}
        <SelectField name="side" className="word" aria-label="side" defaultValue={side}>
          <option>above</option>
          <option>below</option>
        </SelectField>{" "}
        <Field
          name="value"
          className="word"
          type="number"
          step="any"
          required
          aria-label="limit, in the unit of the stream"
          defaultValue={value ?? ""}
          w="8ch"
        />{" "}
        within{" "}
        <Field
          name="within"
          className="word"
          required
          aria-label="how far ahead"
          defaultValue={limit.within ?? "24h"}
          w="5ch"
        />
        .{" "}
        <Button type="submit" disabled={isBusy}>
          Keep this
        </Button>{" "}
        {value != null && (
          <Button disabled={isBusy} onClick={() => void keep({})}>
            No limit
          </Button>
        )}{" "}
        <Button onClick={() => setOpen(false)}>Leave it</Button>
        {error !== null && <Trouble error={error} />}
      </Box>
    );
  return (
    <p className="small tight">
      {value == null
        ? "No limit is foreseen. "
        : `The routes are told when half of the futures go ${side} ${value} within ${limit.within}. `}
      <Button onClick={() => setOpen(true)}>{value == null ? "Foresee a limit" : "Change the limit"}</Button>
    </p>
  );
}
