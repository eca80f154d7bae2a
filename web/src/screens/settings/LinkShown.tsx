import { Button, CopyButton, Modal } from "@mantine/core";
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
      <div className="dialog">
        <p className="tight">
          Hand this to {who}. It sets the password of <strong>{made.person.name}</strong> once
          {ends ? `, until ${dayTime(ends, fleetZone())} ${zoneName(ends, fleetZone())}` : ""}. It is shown
          only now.
        </p>
        <div className="link-text">{address}</div>
        <div className="acts">
          <CopyButton value={address}>
            {({ copied, copy }) => (
              <Button variant="filled" onClick={copy} data-autofocus>
                {copied ? "Copied" : "Copy the link"}
              </Button>
            )}
          </CopyButton>
          <Button onClick={onClose}>Done</Button>
        </div>
      </div>
    </Modal>
  );
}
