import type { Why } from "../api/types";
import { Emphasis } from "../parts/Emphasis";
import { AnswerList } from "./AnswerList";
import { CauseBars } from "./CauseBars";
import { EvidenceList } from "./EvidenceList";
import { NextMove } from "./NextMove";
import { ReportButton } from "./ReportButton";

/** Why a gate is not open: what it may be, what to do to find out, and the evidence. */
export function WhyPanel({ why }: { why: Why | undefined }) {
  if (!why) return <section aria-label="Why" />;
  return (
    <section aria-label="Why">
      <h2 className="flex items-baseline gap-3 text-section font-semibold">
        {why.gate ? (
          <span>
            Why <span className="rounded bg-(--lamp-tint) px-1.5">{why.gate}</span> is not open
          </span>
        ) : (
          "Evidence"
        )}
        <span className="ml-auto">
          <ReportButton handle={why.device} />
        </span>
      </h2>
      {why.text && (
        <p className="mt-2">
          <Emphasis text={why.text} />
        </p>
      )}
      {why.causes.length > 0 ? (
        <>
          <CauseBars causes={why.causes} />
          <NextMove why={why} />
        </>
      ) : (
        why.remedy && (
          <p className="mt-2 text-secondary">
            <Emphasis text={why.remedy} />
          </p>
        )
      )}
      <AnswerList handle={why.device} answers={why.answers} />
      <EvidenceList evidence={why.evidence} denied={why.denied} titled={why.gate !== "" && why.evidence.length > 0} />
    </section>
  );
}
