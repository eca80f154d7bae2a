import { Button, Modal, PasswordInput } from "@mantine/core";
import { hasLength, useForm } from "@mantine/form";
import { api } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { FormColumn } from "../../parts/FormColumn";
import { useChange } from "./useChange";

const LEAST = 12;

/** One's own password. */
export function Password({ onDone, onClose }: { onDone: () => void; onClose: () => void }) {
  const form = useForm({
    initialValues: { old: "", new: "" },
    validate: { new: hasLength({ min: LEAST }, `${LEAST} characters or more`) },
  });
  const { error, isBusy, change } = useChange("sessions");
  const send = form.onSubmit(async (body) => {
    if (await change(() => api.PUT("/api/v1/session/password", { body }))) {
      onDone();
      onClose();
    }
  });
  return (
    <Modal opened onClose={onClose} title="Change the password">
      <FormColumn onSubmit={send}>
        <PasswordInput
          label="Present password"
          {...form.getInputProps("old")}
          autoComplete="current-password"
          required
          data-autofocus
        />
        <PasswordInput
          label="New password"
          description={`${LEAST} characters or more`}
          {...form.getInputProps("new")}
          autoComplete="new-password"
          required
        />
        {error !== null && <Trouble error={error} />}
        <Button type="submit" variant="filled" size="sm" disabled={isBusy}>
          Change it
        </Button>
      </FormColumn>
    </Modal>
  );
}
