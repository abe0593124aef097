import { useState } from "react";
import { useDriverCandidates, useInstallDriver } from "../api/queries";
import type { Device } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { DriverFacts } from "./DriverFacts";

/** The driver sets that may be used besides the best one, each with what stands against it. */
export function OtherDrivers({ device, best }: { device: Device; best: string }) {
  const [open, setOpen] = useState(false);
  const candidates = useDriverCandidates(device.handle, open);
  const install = useInstallDriver(device.handle);
  const others = candidates.data?.items.filter((c) => c.digest !== best);
  return (
    <details className="mt-4" onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="min-h-6 cursor-pointer text-row font-medium">Choose another by hand</summary>
      <ProblemText error={candidates.error ?? install.error} />
      {others?.length === 0 && <p className="mt-1 text-row text-secondary">There is no other.</p>}
      <ul>
        {others?.map((c) => (
          <li key={c.digest} className="mt-3">
            <p className="text-row font-semibold">
              {c.name} {c.version}
            </p>
            <DriverFacts set={c} />
            {c.against.map((a) => (
              <p key={a.word} className="mt-1 max-w-prose text-row break-words">
                {a.text}
              </p>
            ))}
            <button
              type="button"
              className="press press-small mt-2"
              disabled={install.isPending || device.working !== "" || c.bound}
              onClick={() => install.mutate({ accept: c.digest, despite: c.against.map((a) => a.word) })}
            >
              Install {c.name} {c.version}
              {c.against.length > 0 && " nevertheless"}
            </button>
          </li>
        ))}
      </ul>
    </details>
  );
}
