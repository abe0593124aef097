import { useAccounts, useAuthorities, useSignOutAccount, useUseAccount } from "../api/belong";
import type { Account } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { headerText } from "../parts/time";
import { SignInAccount } from "./SignInAccount";
import { standingText } from "./standingText";

/** The accounts at authorities: which one is used, and what its standing allows. */
export function AccountList() {
  const accounts = useAccounts();
  const authorities = useAuthorities();
  return (
    <section aria-label="Accounts" className="mt-8">
      <h2 className="text-section font-semibold">Accounts</h2>
      <ProblemText error={accounts.error ?? authorities.error} />
      <ul className="mt-1">
        {accounts.data?.items.map((a) => (
          <OneAccount key={`${a.authority}/${a.id}`} account={a} />
        ))}
      </ul>
      {authorities.data?.items.map((a) => (
        <div key={a.name} className="mt-3">
          {a.trouble !== "" && (
            <p role="status" className="text-row">
              {a.name}: {a.trouble}
            </p>
          )}
          <SignInAccount authority={a} />
        </div>
      ))}
      {authorities.data?.items.length === 0 && (
        <p className="text-row text-secondary">
          No authority has been added. On the bench’s computer:{" "}
          <code className="mono">earlybench authority add URL</code>
        </p>
      )}
    </section>
  );
}

function OneAccount({ account: a }: { account: Account }) {
  const use = useUseAccount();
  const out = useSignOutAccount();
  const crew = a.crews.find((c) => c.name === a.crew);
  const name = `${a.authority}/${a.id}`;
  return (
    <li className="border-b border-base-300 py-2 text-row">
      <span className="flex items-baseline gap-3">
        <span className="min-w-0 flex-1">
          <b className="font-semibold">{a.id}</b> at {a.authority}
          {a.used ? ", in use" : ", not in use"}
        </span>
        {!a.used && (
          <button type="button" className="press press-small" onClick={() => use.mutate(name)}>
            Use {a.id}
          </button>
        )}
        <button
          type="button"
          className="press press-small"
          aria-label={`Sign ${a.id} out`}
          onClick={() => out.mutate(name)}
        >
          Sign out
        </button>
      </span>
      <span className="block text-caption text-secondary">
        {a.state === "out" ? "Signed out by the authority: sign in again." : `Signed in since ${headerText(a.since)}.`}
      </span>
      {crew && (
        <span className="block text-caption text-secondary">
          Crew {crew.name}, number <b className="mono font-semibold text-base-content">{crew.number}</b>, standing{" "}
          {crew.standing.name}: {standingText(crew.standing)}
        </span>
      )}
      <ProblemText error={use.error ?? out.error} />
    </li>
  );
}
