import { useInvite } from "../api/peers";
import type { Invitation } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { headerText } from "../parts/time";

/** Makes an invitation for another bench: a file for one use. */
export function InvitePeer() {
  const invite = useInvite();
  return (
    <div className="mt-3">
      <button
        type="button"
        className="press press-small"
        disabled={invite.isPending}
        onClick={() => invite.mutate("", { onSuccess: save })}
      >
        Invite another bench
      </button>
      {invite.data && (
        <p role="status" className="mt-1 text-caption">
          The invitation was saved as a file. It works once, until {headerText(invite.data.ends)}: give it to the other
          bench's owner in a way that you trust.
        </p>
      )}
      <ProblemText error={invite.error} />
    </div>
  );
}

/** save has the browser save an invitation as a file. */
function save(invitation: Invitation) {
  const url = URL.createObjectURL(new Blob([JSON.stringify(invitation, null, 2) + "\n"], { type: "application/json" }));
  const a = document.createElement("a");
  a.href = url;
  a.download = `${invitation.bench}.invitation`;
  a.click();
  URL.revokeObjectURL(url);
}
