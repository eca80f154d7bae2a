import { Box, Button, CopyButton, Group, Modal, Stack } from "@mantine/core";
import type { Schema } from "../../api/client";
import { dayTime, zoneName } from "../../parts/words";
import { fleetZone } from "../../parts/zones";

export type MadeLink = Schema["Link"];

/** A link for an account, shown this once, to be handed over. */
export function LinkShown({ made, onClose }: { made: MadeLink; onClose: () => void }) {
  const address = `${window.location.origin}/join#${made.link}`;
  const who = made.person.full_name || made.person.name;
  const ends = made.person.link_ends_at ? made.person.link_ends_at : null;
  return (
    <Modal opened onClose={onClose} title={`A link for ${who}`}>
      <Stack gap={14}>
        <p className="tight">
          Hand this to {who}. It sets the password of <strong>{made.person.name}</strong> once
          {ends ? `, until ${dayTime(ends, fleetZone())} ${zoneName(ends, fleetZone())}` : ""}. It is shown
          only now.
        </p>
        <Box p="8px 10px" bg="var(--wash)" className="secret">
          {address}
        </Box>
        <Group gap="6px 18px">
          <CopyButton value={address}>
            {({ copied, copy }) => (
              <Button variant="filled" onClick={copy} data-autofocus>
                {copied ? "Copied" : "Copy the link"}
              </Button>
            )}
          </CopyButton>
          <Button onClick={onClose}>Done</Button>
        </Group>
      </Stack>
    </Modal>
  );
}
