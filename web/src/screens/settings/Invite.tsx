import { Button, Modal, NativeSelect, TextInput } from "@mantine/core";
import { type FormEvent, useState } from "react";
import { api, get, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
import type { MadeLink } from "./LinkShown";
import { ROLES } from "./People";
import { useChange } from "./useChange";

const MAY: Record<Schema["Person"]["role"], string> = {
  viewer: "may look at everything",
  analyst: "may also scan, judge and bring in",
  admin: "may also delete for good and look after accounts",
};

/** A new account; its owner sets the password by the link. */
export function Invite({ onDone, onClose }: { onDone: (made: MadeLink) => void; onClose: () => void }) {
  const [name, setName] = useState("");
  const [fullName, setFullName] = useState("");
  const [role, setRole] = useState<Schema["Person"]["role"]>("viewer");
  const { error, isBusy, change } = useChange("people");
  const send = async (event: FormEvent) => {
    event.preventDefault();
    let made: MadeLink | null = null;
    const body = { name, full_name: fullName, role };
    if ((await change(async () => (made = await get(api.POST("/api/v1/people", { body }))))) && made) {
      onClose();
      onDone(made);
    }
  };
  return (
    <Modal opened onClose={onClose} title="Invite somebody">
      <form className="dialog" onSubmit={send}>
        <TextInput
          label="Signs in as"
          description="letters, digits and @ . + - _"
          value={name}
          onChange={(e) => setName(e.currentTarget.value)}
          autoComplete="off"
          maxLength={150}
          required
          data-autofocus
        />
        <TextInput
          label="Full name"
          value={fullName}
          onChange={(e) => setFullName(e.currentTarget.value)}
          autoComplete="off"
          maxLength={150}
        />
        <NativeSelect
          label="Role"
          description={MAY[role]}
          data={[...ROLES]}
          value={role}
          onChange={(e) => setRole(e.currentTarget.value as typeof role)}
        />
        {error !== null && <Trouble error={error} />}
        <Button type="submit" variant="filled" size="sm" disabled={isBusy}>
          Make the link
        </Button>
      </form>
    </Modal>
  );
}
