import { useState } from "react";
import { Link } from "react-router";
import { useAccounts, useRegister } from "../api/belong";
import { useBench } from "../api/queries";
import { useSafe } from "../api/safe";
import { useMayRun } from "../api/statements";
import type { Safe } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { AccountList } from "./AccountList";
import { AppIDList } from "./AppIDList";
import { ConsentCard } from "./ConsentCard";
import { cellOf, stoppedIn, type Chosen } from "./chosenCell";
import { IdentityList } from "./IdentityList";
import { MayRunMatrix } from "./MayRunMatrix";
import { MayRunReason } from "./MayRunReason";
import { StageRoad } from "./StageRoad";
import { StatementList } from "./StatementList";
import { RegisterList } from "./RegisterList";
import { RuleList } from "./RuleList";
import { SafeDoor } from "./SafeDoor";
import { SafeItemList } from "./SafeItemList";
import { UseList } from "./UseList";

/** Keys: what waits for a person's consent, the safe, who used what of it. */
export function KeysPage() {
  const safe = useSafe();
  const now = safe.data;
  const bench = useBench();
  const accounts = useAccounts();
  const used = accounts.data?.items.find((a) => a.used && a.state === "in");
  const signedIn = used !== undefined;
  const mayRun = useMayRun();
  const apps = mayRun.data?.apps ?? [];
  const stages = mayRun.data?.stages ?? [];
  const [chosen, setChosen] = useState<Chosen>();
  const cell = cellOf(apps, chosen);
  const register = useRegister(signedIn);
  const missing = register.data?.missing.length ?? 0;
  const known = accounts.data && mayRun.data && (register.data || !signedIn);
  return (
    <main className="grid min-h-[calc(100dvh-53px)] grid-cols-[minmax(0,1fr)] md:grid-cols-[minmax(0,1fr)_372px]">
      <div className="px-5 pt-3 pb-10 md:px-8">
        <h1 className="text-lead">
          {now
            ? (ofSafe(now) ?? (known ? headline(signedIn, missing, stoppedIn(apps)) : "The safe is open."))
            : safe.isPending && "Asking the bench…"}
        </h1>
        <p className="mt-1 text-row">
          <Link className="press-link" to="/endings">
            What ends, and when
          </Link>
        </p>
        <ProblemText error={safe.error} />
        <ProblemText error={mayRun.error} />
        {stages.length > 0 && <StageRoad stages={stages} />}
        {apps.length > 0 && (
          <section aria-label="What may run where" className="mt-8">
            <h2 className="flex flex-wrap items-baseline justify-between gap-x-4 text-section font-semibold">
              What may run where{" "}
              <span className="text-caption font-normal text-secondary">
                lifted: may · down: may not · two stubs: needs nothing · dotted: not known · ×: not made for it
              </span>
            </h2>
            <MayRunMatrix apps={apps} chosen={cell} choose={setChosen} />
            {cell && <MayRunReason chosen={cell} />}
          </section>
        )}
        <StatementList />
        <div className="grid gap-x-9 xl:grid-cols-[400px_minmax(0,1fr)]">
          <div>
            <IdentityList bench={bench.data?.name ?? "bench"} signedIn={signedIn} />
            {used && <AppIDList crew={used.crew} />}
          </div>
          {signedIn && <RegisterList />}
        </div>
        {now && <RuleList safe={now} />}
        <UseList />
      </div>
      <aside aria-label="The safe" className="bg-base-200 px-5 pt-3 pb-10 md:px-7">
        {now?.requests.map((r) => (
          <ConsentCard key={r.id} request={r} />
        ))}
        {now && <SafeDoor safe={now} />}
        <AccountList />
        {now && <SafeItemList safe={now} />}
      </aside>
    </main>
  );
}

/** What comes before all else, if there is such. */
function ofSafe({ state, requests }: Safe) {
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
  if (state === "locked") return "The safe is locked.";
}

function headline(signedIn: boolean, missing: number, stopped: Chosen | undefined) {
  if (!signedIn) return "The safe is open. No account at an authority is in use.";
  if (missing > 0)
    return (
      <>
        <b className="font-semibold">{missing === 1 ? "One device is" : `${missing} devices are`}</b> not registered.
      </>
    );
  if (stopped)
    return (
      <>
        <b className="font-semibold">{stopped.device}</b> may not run {stopped.app}.
      </>
    );
  return "The safe is open, and nothing is waiting for you.";
}
