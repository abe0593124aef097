import { useAccounts } from "../api/belong";
import { useAllow } from "../api/statements";
import { useChosenApp } from "../app/chosenApp";
import { ProblemText } from "../parts/ProblemText";

/** Puts on the device the grant or the debug token that the chosen app needs to run there. */
export function AllowButton({ handle }: { handle: string }) {
  const app = useChosenApp();
  const allow = useAllow(handle);
  const used = useAccounts().data?.items.find((a) => a.used);
  return (
    <div className="mt-5">
      <button
        type="button"
        className="press press-main"
        disabled={allow.isPending || !app}
        onClick={() => app && allow.mutate(app)}
      >
        Put it on {handle}
      </button>
      {used && (
        <p className="mt-2 text-caption text-secondary">
          If none of this bench fits, account {used.id} asks {used.authority} for one, for the crew {used.crew}.
        </p>
      )}
      <ProblemText error={allow.error} />
    </div>
  );
}
