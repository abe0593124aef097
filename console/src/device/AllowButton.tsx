import { useAccounts, useJob } from "../api/belong";
import { useAllow } from "../api/statements";
import { useChosenApp } from "../app/chosenApp";
import { ProblemText } from "../parts/ProblemText";

/** Puts on the device the grant or the debug token that an app needs to run there; without one, the chosen app. */
export function AllowButton({ handle, app: named }: { handle: string; app?: string }) {
  const chosen = useChosenApp();
  const app = named ?? chosen;
  const allow = useAllow(handle);
  const job = useJob(allow.data?.id ?? "");
  const used = useAccounts().data?.items.find((a) => a.used);
  const others = job.data?.put?.rows.find((r) => r.outcome === "asks");
  return (
    <div className="mt-5">
      <button
        type="button"
        className={others ? "press" : "press press-main"}
        disabled={allow.isPending || !app}
        onClick={() => app && allow.mutate({ app, replace: others !== undefined })}
      >
        {others ? "Replace it by yours" : `Put it on ${handle}`}
      </button>
      {others ? (
        <p role="alert" className="mt-2 max-w-prose text-row">
          {others.error?.text} A device can hold only one: ask its owner before you replace it.
        </p>
      ) : (
        used && (
          <p className="mt-2 text-caption text-secondary">
            If none of this bench fits, account {used.id} asks {used.authority} for one, for the crew {used.crew}.
          </p>
        )
      )}
      <ProblemText error={allow.error} />
    </div>
  );
}
