import { type ReactNode, useEffect, useRef, useState } from "react";
import { useAskConfirmation, useOwner } from "../api/owner";
import { useSessions } from "../api/queries";
import { CommandLine } from "./CommandLine";
import { Countdown } from "./Countdown";
import { ProblemText } from "./ProblemText";

type Props = { what: string; command: string; children: ReactNode };

/**
 * A form for what only the bench's owner may do, behind a button. Until the owner has
 * confirmed this browser, the button leads to the confirmation first. A form in which
 * somebody has begun to write stays when the confirmation ends.
 */
export function OwnerOnly({ what, command, children }: Props) {
  const owner = useOwner() !== undefined;
  const phone = useSessions().error !== null; // a phone's page is no session that could be confirmed
  const ask = useAskConfirmation();
  const [wanted, setWanted] = useState(false);
  const [shown, setShown] = useState(false);
  const form = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (wanted && owner) setShown(true);
  }, [wanted, owner]);
  useEffect(() => {
    if (shown) form.current?.querySelector<HTMLElement>("input, textarea, button")?.focus();
  }, [shown]);
  if (phone)
    return (
      <p className="mt-1 text-row">
        On the computer of the bench: <CommandLine>{command}</CommandLine>
      </p>
    );
  const press = () => {
    setWanted(true);
    if (!owner) ask.mutate();
  };
  return (
    <div className="mt-1">
      {!shown && !(wanted && ask.data) && (
        <button type="button" className="press press-small" disabled={ask.isPending} onClick={press}>
          {what}
        </button>
      )}
      {shown && !owner && (
        <button type="button" className="press press-small" disabled={ask.isPending} onClick={press}>
          The confirmation has expired: ask the owner again
        </button>
      )}
      {wanted && !owner && ask.data && (
        <div role="status">
          <p className="max-w-prose text-row">
            Only the bench’s owner may do this. To confirm this browser for a quarter of an hour, run on the bench’s
            computer:
          </p>
          <CommandLine>{`earlybench console --confirm ${ask.data.code}`}</CommandLine>
          <p className="text-caption text-secondary">
            The code is valid for <Countdown key={ask.data.code} seconds={ask.data.seconds} />. Without the page:{" "}
            <CommandLine>{command}</CommandLine>
          </p>
        </div>
      )}
      <ProblemText error={ask.error} />
      {shown && <div ref={form}>{children}</div>}
    </div>
  );
}
