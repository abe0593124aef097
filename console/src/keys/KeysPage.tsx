import { useSafe } from "../api/safe";
import type { Safe } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { ConsentCard } from "./ConsentCard";
import { RuleList } from "./RuleList";
import { SafeDoor } from "./SafeDoor";
import { SafeItemList } from "./SafeItemList";
import { UseList } from "./UseList";

/** Keys: what waits for a person's consent, the safe, who used what of it. */
export function KeysPage() {
  const safe = useSafe();
  const now = safe.data;
  return (
    <main className="grid min-h-[calc(100dvh-53px)] grid-cols-[minmax(0,1fr)] md:grid-cols-[minmax(0,1fr)_372px]">
      <div className="px-5 pt-3 pb-10 md:px-8">
        <h1 className="text-lead">{now ? headline(now) : "Asking for the safe…"}</h1>
        <ProblemText error={safe.error} />
        {now && <SafeItemList safe={now} />}
        {now && <RuleList safe={now} />}
        <UseList />
      </div>
      <aside aria-label="The safe" className="bg-base-200 px-5 pt-3 pb-10 md:px-7">
        {now?.requests.map((r) => (
          <ConsentCard key={r.id} request={r} />
        ))}
        {now && <SafeDoor safe={now} />}
      </aside>
    </main>
  );
}

function headline({ state, requests }: Safe) {
  if (requests.length > 0)
    return (
      <>
        <b className="font-semibold">
          {requests.length === 1 ? "One request waits" : `${requests.length} requests wait`}
        </b>{" "}
        for your consent.
      </>
    );
  if (state === "missing") return "This bench has no safe for keys yet.";
  return state === "locked" ? "The safe is locked." : "The safe is open, and nothing waits for you.";
}
