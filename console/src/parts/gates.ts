import type { Device } from "../api/types";

/** The gates in the order in which they are always shown. */
export const gates = [
  "seen",
  "awake",
  "mode",
  "driver",
  "admitted",
  "linked",
  "support",
  "registered",
  "granted",
  "token",
  "accepted",
  "tried",
] as const;

/** Where the road of a device ends: at its first gate; where that is the computer's, at the first that is not open. */
export function roadEnd(d: Device, shown: readonly string[]) {
  if (!d.first) return shown.length;
  const at = d.unfit ? -1 : shown.indexOf(d.first); // an app that is not made for it says nothing of its road
  return at >= 0 ? at : shown.findIndex((g) => d.gates[g] !== "open" && d.gates[g] !== "not needed");
}

/** Whether nothing is shut. */
export const isReady = (d: Device) => d.summary === "ready" || d.summary === "expiring";
