import { Button, Modal, NativeSelect, TextInput } from "@mantine/core";
import { useForm } from "@mantine/form";
import { api, get, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { FormColumn } from "../../parts/FormColumn";
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
  const form = useForm({
    initialValues: { name: "", full_name: "", role: "viewer" as Schema["Person"]["role"] },
  });
  const { error, isBusy, change } = useChange("people");
  const send = form.onSubmit(async (body) => {
    let made: MadeLink | null = null;
    if ((await change(async () => (made = await get(api.POST("/api/v1/people", { body }))))) && made) {
      onClose();
      onDone(made);
    }
  });
  return (
    <Modal opened onClose={onClose} title="Invite somebody">
      <FormColumn onSubmit={send}>
        <TextInput
          label="Signs in as"
          description="letters, digits and @ . + - _"
          {...form.getInputProps("name")}
          autoComplete="off"
          maxLength={150}
          required
          data-autofocus
        />
        <TextInput
          label="Full name"
          {...form.getInputProps("full_name")}
          autoComplete="off"
          maxLength={150}
        />
        <NativeSelect
          label="Role"
          description={MAY[form.values.role]}
          data={[...ROLES]}
          {...form.getInputProps("role")}
        />
        {error !== null && <Trouble error={error} />}
        <Button type="submit" variant="filled" size="sm" disabled={isBusy}>
          Make the link
        </Button>
      </FormColumn>
    </Modal>
  );
}
