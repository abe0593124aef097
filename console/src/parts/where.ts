import type { NetworkEntry } from "../api/types";
import { hourText } from "./time";

/** Where something is heard, or its address. */
export const whereText = (e: NetworkEntry) => {
  if (e.through === "") return `at ${e.addresses[0]}`;
  return `through ${e.through}${e.asleep ? `, asleep since ${hourText(e.asleep)}` : ""}`;
};
