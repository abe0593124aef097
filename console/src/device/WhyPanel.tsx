import { Eye, MessageSquare } from "lucide-react";
import type { Fact, Why } from "../api/types";
import { Emphasis } from "../parts/Emphasis";
import { clockText } from "../parts/time";

/** Why a gate is not open, and the evidence, each with source and time. */
export function WhyPanel({ why }: { why: Why | undefined }) {
  if (!why) return <section aria-label="Why" />;
  return (
    <section aria-label="Why">
      <h2 className="text-section font-semibold">
        {why.gate ? (
          <>
            Why <span className="rounded bg-(--lamp-tint) px-1.5">{why.gate}</span> is not open
          </>
        ) : (
          "What we go by"
        )}
      </h2>
      {why.text && (
        <p className="mt-2">
          <Emphasis text={why.text} />
        </p>
      )}
      {why.remedy && (
        <p className="mt-2 text-secondary">
          <Emphasis text={why.remedy} />
        </p>
      )}
      <ul className="mt-3">
        {why.evidence.map((f) => (
          <Evidence key={f.key + f.source} fact={f} />
        ))}
      </ul>
    </section>
  );
}

function Evidence({ fact: f }: { fact: Fact }) {
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
      <span className="first-letter:uppercase">{f.text}</span>
      <span className="pl-3 text-caption whitespace-nowrap text-secondary">
        {told ? `told by ${f.by}` : `observed, ${f.source}`} <span className="mono ml-2">{clockText(f.at)}</span>
      </span>
    </li>
  );
}
