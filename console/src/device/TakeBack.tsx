import { useGiveDevice } from "../api/queries";
import type { Device } from "../api/types";
import { ProblemText } from "../parts/ProblemText";

/** The button by which whoever holds a device has to release it. */
export function TakeBack({ device }: { device: Device }) {
  const give = useGiveDevice(device.handle);
  return (
    <div className="mt-5">
      <button
        type="button"
        className="press press-main"
        disabled={give.isPending || device.working !== ""}
        onClick={() => give.mutate("")}
      >
        Take {device.handle} back
      </button>
      <ProblemText error={give.error} />
    </div>
  );
}
