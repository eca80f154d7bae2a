import { Button, Modal, PasswordInput } from "@mantine/core";
import { type FormEvent, useState } from "react";
import { api } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useChange } from "./useChange";

/** One's own password. */
export function Password({ onDone, onClose }: { onDone: () => void; onClose: () => void }) {
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const { error, isBusy, change } = useChange("sessions");
  const send = async (event: FormEvent) => {
    event.preventDefault();
    if (await change(() => api.PUT("/api/v1/session/password", { body: { old, new: fresh } }))) {
      onDone();
      onClose();
    }
  };
  return (
    <Modal opened onClose={onClose} title="Change the password">
      <form className="dialog" onSubmit={send}>
        <PasswordInput
          label="Present password"
          value={old}
          onChange={(e) => setOld(e.currentTarget.value)}
          autoComplete="current-password"
          required
          data-autofocus
        />
        <PasswordInput
          label="New password"
          description="12 characters or more"
          value={fresh}
          onChange={(e) => setFresh(e.currentTarget.value)}
          autoComplete="new-password"
          minLength={12}
          required
        />
        {error !== null && <Trouble error={error} />}
        <Button type="submit" variant="filled" size="sm" disabled={isBusy}>
          Change it
        </Button>
      </form>
    </Modal>
  );
}
