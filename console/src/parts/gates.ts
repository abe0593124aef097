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
