import { useState } from "react";
import { useFacts, useHistory } from "../api/queries";
import { Evidence } from "../why/EvidenceList";
import { StateFact } from "./StateFact";

/** Everything known about a device, and what was known before; folded until it is wanted. */
export function FactsPanel({ handle }: { handle: string }) {
  const [open, setOpen] = useState(false);
  return (
    <details className="mt-6 border-t border-base-300 pt-4" onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="min-h-7 cursor-pointer text-section font-semibold">Facts and their history</summary>
      {open && <StateFact handle={handle} />}
      {open && <Lists handle={handle} />}
    </details>
  );
}

function Lists({ handle }: { handle: string }) {
  const facts = useFacts(handle);
  const history = useHistory(handle);
  return (
    <div className="mt-3 grid grid-cols-[minmax(0,1fr)] gap-9 md:grid-cols-2">
      <div>
        <h3 className="text-caption text-secondary">What is known now</h3>
        <ul aria-label="What is known now">
          {facts.data?.items.map((f) => (
            <Evidence key={f.key + f.source} fact={f} />
          ))}
        </ul>
      </div>
      <div>
        <h3 className="text-caption text-secondary">What was known before, newest first</h3>
        <ul aria-label="What was known before">
          {history.data?.items.slice(0, 60).map((f, i) => (
            <Evidence key={i} fact={f} />
          ))}
        </ul>
      </div>
    </div>
  );
}
