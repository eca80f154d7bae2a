/** Whose clock the page shows: the streams' own, or by one switch that of whoever looks. One place decides for all of it. */

const KEY = "watchtide-clock";

/** The zone of this browser. */
export const BROWSER = Intl.DateTimeFormat().resolvedOptions().timeZone;

const isOwn = localStorage.getItem(KEY) === "own";
let fleet = BROWSER;

export const hasOwnClock = (): boolean => isOwn;

/** Show the streams' clock or one's own; the page is built anew, so that nothing stays in the other. */
export function setOwnClock(own: boolean): void {
  if (own) localStorage.setItem(KEY, "own");
  else localStorage.removeItem(KEY);
  window.location.reload();
}

/** The zone that most streams are in, as the server says at sign-in. */
export function setFleetZone(zone: string): void {
  fleet = zone;
}

/** The zone for times that belong to no single stream. */
export function fleetZone(): string {
  return shownZone(fleet);
}

/** The zone that times of a stream's zone are shown in. What is in UTC by its nature stays so. */
export function shownZone(zone: string): string {
  return isOwn && zone !== "UTC" ? BROWSER : zone;
}
