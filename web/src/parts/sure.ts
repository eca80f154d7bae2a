import { modals } from "@mantine/modals";

/** Asks once before what cannot be undone, with what follows from it. */
export function sure(act: string, what: string, follows: string, then: () => unknown) {
  modals.openConfirmModal({
    title: `${act} ${what}?`,
    children: follows,
    labels: { confirm: act, cancel: "Leave it" },
    confirmProps: { variant: "filled" },
    onConfirm: () => void then(),
  });
}
