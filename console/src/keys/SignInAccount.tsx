import { useJob, useSignInAccount } from "../api/belong";
import type { Authority, SignInCode } from "../api/types";
import { Countdown } from "../parts/Countdown";
import { ProblemText } from "../parts/ProblemText";
import { standingText } from "./standingText";

/** Signs in at an authority, or makes an account there: its page is opened, and the code typed there. */
export function SignInAccount({ authority }: { authority: Authority }) {
  const signIn = useSignInAccount();
  return (
    <>
      <button
        type="button"
        className="press press-small"
        disabled={signIn.isPending}
        onClick={() => signIn.mutate(authority.name)}
      >
        Sign in at {authority.name}, or create an account
      </button>
      <ProblemText error={signIn.error} />
      {signIn.data && <Code key={signIn.data.job} code={signIn.data} authority={authority} />}
    </>
  );
}

function Code({ code, authority }: { code: SignInCode; authority: Authority }) {
  const job = useJob(code.job);
  if (job.data?.state === "done") return <p className="mt-2 text-row">You are signed in.</p>;
  if (job.data?.error)
    return (
      <p role="alert" className="mt-2 text-row">
        {job.data.error.text} {job.data.error.remedy}
      </p>
    );
  return (
    <div role="status" className="mt-2 rounded-lg bg-(--lamp-tint) px-4 py-3 text-row">
      <p>
        1. Open{" "}
        <a className="press-link" href={code.page} target="_blank" rel="noreferrer">
          the page of {authority.name}
        </a>
        .
      </p>
      <p className="mt-1">2. Type this code there:</p>
      <p className="mono my-1 text-lead font-semibold tracking-widest">{code.code}</p>
      <p>3. Sign in there, or create an account. This page never asks for the account’s password.</p>
      <p className="mt-1 text-caption text-secondary">
        The code is valid for{" "}
        <Countdown seconds={Math.max(0, Math.round((Date.parse(code.ends) - Date.now()) / 1000))} />.
      </p>
      <p className="mt-2 font-semibold">For a new account, choose a standing:</p>
      <ul className="list-disc pl-5">
        {authority.standings.map((s) => (
          <li key={s.name}>
            <b className="font-semibold">{s.name}</b>: {standingText(s)}
          </li>
        ))}
      </ul>
    </div>
  );
}
