import { Eye, MessageSquare } from "lucide-react";
import type { Denied, Fact } from "../api/types";
import { clockText } from "../parts/time";

/** Evidence, each with source and time; and words that what is seen stands against. */
export function EvidenceList({ evidence, denied, titled }: { evidence: Fact[]; denied: Denied[]; titled: boolean }) {
  return (
    <>
      {titled && <h3 className="mt-4 text-caption text-secondary">Evidence</h3>}
      <ul className="mt-1">
        {evidence.map((f) => (
          <Evidence key={f.key + f.source} fact={f} />
        ))}
      </ul>
      {denied.map((d) => (
        <p key={d.told.key} role="alert" className="mt-2 rounded-lg bg-(--lamp-tint) px-3 py-2 text-row">
          <b className="font-semibold">What is observed counts.</b>{" "}
          <span className="text-warning">{d.told.by} said:</span> {d.told.text} ({clockText(d.told.at)}).{" "}
          {d.observed.source} observed: {d.observed.text} ({clockText(d.observed.at)}).
        </p>
      ))}
    </>
  );
}

export function Evidence({ fact: f }: { fact: Fact }) {
  const told = f.source === "person";
  const Sign = told ? MessageSquare : Eye;
  return (
    <li className="grid grid-cols-[22px_minmax(0,1fr)_auto] items-baseline gap-x-1 py-[3px] text-row">
      <Sign
        size={14}
        strokeWidth={1.5}
        aria-hidden="true"
        className={`translate-y-[2px] ${told ? "text-warning" : "text-(--road)"}`}
      />
      <span className="break-words first-letter:uppercase">{f.text}</span>
      <span className="pl-3 text-caption whitespace-nowrap text-secondary">
        {told ? `confirmed by ${f.by}` : `observed, ${f.source}`}
        {!f.good && ", no longer good"} <span className="mono ml-2">{clockText(f.at)}</span>
      </span>
    </li>
  );
}
