import type { TreeRow } from "../api/types";

/** What is wrong, to be read behind the device's name. */
export function faultOf(row: TreeRow): string {
  const text = row.trouble;
  return text.startsWith(row.device + " ") ? text.slice(row.device.length + 1) : text;
}

/** A speed for people. */
export function speedText(kilobits: number): string {
  if (kilobits === 0) return "";
  return kilobits >= 1_000_000 ? `${kilobits / 1_000_000} Gbit/s` : `${kilobits / 1000} Mbit/s`;
}
