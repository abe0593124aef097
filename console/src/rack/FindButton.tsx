import { useFind } from "../api/queries";
import type { Device } from "../api/types";

/** Has a linked device show its handle, so that one finds it among many. */
export function FindButton({ device }: { device: Device }) {
  const find = useFind(device.handle);
  if (device.gates["linked"] !== "open") return null;
  return (
    <button type="button" className="press-link text-row" disabled={find.isPending} onClick={() => find.mutate()}>
      {find.isSuccess ? "Shown on its screen" : "Identify"}
      <span className="sr-only"> {device.handle}</span>
    </button>
  );
}
