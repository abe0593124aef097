import { useBench } from "../api/queries";
import { Gate } from "./Gate";

const states = [
  ["open", "it holds"],
  ["shut", "it was observed not to hold"],
  ["waiting", "a person was asked"],
  ["unknown", "nothing good was observed"],
  ["not needed", "this device does not need it"],
] as const;

/** What the gates and their shapes mean; folded until it is wanted. */
export function GateLegend() {
  const gates = useBench().data?.gates ?? [];
  return (
    <details className="mt-6 text-row">
      <summary className="min-h-6 cursor-pointer font-medium text-primary">What the gates mean</summary>
      <ul className="mt-3 flex flex-wrap gap-x-6 gap-y-1">
        {states.map(([state, text]) => (
          <li key={state} className="flex items-center gap-2">
            <Gate state={state} first={false} size={18} /> <b className="font-semibold">{state}</b> {text}
          </li>
        ))}
      </ul>
      <dl className="mt-3 grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1">
        {gates.map((g) => (
          <div key={g.gate} className="contents">
            <dt className="font-semibold">{g.gate}</dt>
            <dd className="text-secondary">{g.text}</dd>
          </div>
        ))}
      </dl>
    </details>
  );
}
