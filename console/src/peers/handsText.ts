import type { Hands } from "../api/types";

/** handsText says how a request for hands is. */
export function handsText(h: Hands): string {
  const note = h.note ? `: ${h.note}` : "";
  switch (h.state) {
    case "asked":
      return "Nobody has opened it yet.";
    case "seen":
      return "Somebody near has opened it.";
    case "done":
      return `Done, says ${h.by}${note}.`;
    case "cannot":
      return `It cannot be done, says ${h.by}${note}.`;
    default:
      return "Withdrawn.";
  }
}
