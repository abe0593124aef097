import { CommandLine } from "../parts/CommandLine";
import { useEndConfirmation } from "../api/owner";
import { useEndSession, useSessions, useSignOut } from "../api/queries";
import { ProblemText } from "../parts/ProblemText";
import { browserName } from "../parts/browserName";
import { clockText, headerText } from "../parts/time";

/** The browsers that are signed in; each can be signed out here. */
export function SessionList() {
  const sessions = useSessions();
  const end = useEndSession();
  const out = useSignOut();
  const less = useEndConfirmation();
  return (
    <section aria-label="Signed in" className="mt-8">
      <h2 className="text-section font-semibold">Signed in</h2>
      <ProblemText error={sessions.error ?? end.error ?? out.error ?? less.error} />
      <ul className="mt-1">
        {sessions.data?.items.map((s) => (
          <li key={s.id} className="flex items-baseline gap-3 py-1.5 text-row">
            <span className="min-w-0 flex-1">
              {browserName(s.agent)} {s.this && <b className="font-semibold">(this one)</b>}
              <span className="block text-caption text-secondary">
                since {headerText(s.created)}, used last {headerText(s.used)}
                {s.confirmed && `, confirmed by the owner until ${clockText(s.confirmed)}`}
                {s.this && s.confirmed && (
                  <button type="button" className="press-link ml-2" onClick={() => less.mutate()}>
                    End that now
                  </button>
                )}
              </span>
            </span>
            <button
              type="button"
              className="press press-small"
              aria-label={`Sign out ${browserName(s.agent)}`}
              onClick={() => (s.this ? out.mutate() : end.mutate(s.id))}
            >
              Sign out
            </button>
          </li>
        ))}
      </ul>
      <p className="mt-1 text-caption text-secondary">
        Another browser: <CommandLine>earlybench console</CommandLine>
      </p>
    </section>
  );
}
