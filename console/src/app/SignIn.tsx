import { CommandLine } from "../parts/CommandLine";
import { useEffect, useRef, useState } from "react";
import { Problem, queryClient, useSignIn } from "../api/queries";
import { Mark } from "./Mark";

const prefix = "#sign-in=";

/** The page of a browser that is not signed in: it takes the secret from the address, once. */
export function SignIn() {
  const signIn = useSignIn();
  const taken = useRef("");
  const [typed, setTyped] = useState("");
  const enter = (address: string) => {
    const secret = address.slice(address.indexOf(prefix) + (address.includes(prefix) ? prefix.length : 1)).trim();
    signIn.mutate(secret, { onSuccess: () => queryClient.invalidateQueries() });
  };
  useEffect(() => {
    const take = () => {
      const { hash } = window.location;
      if (!hash.startsWith(prefix) || taken.current === hash) return;
      taken.current = hash;
      window.history.replaceState(null, "", window.location.pathname);
      enter(hash);
    };
    take();
    // The address may also be opened in a tab that shows this page already.
    window.addEventListener("hashchange", take);
    return () => window.removeEventListener("hashchange", take);
  });
  return (
    <main className="mx-auto max-w-xl px-8 pt-24">
      <Mark />
      <h1 className="mt-6 text-lead">
        <b className="font-semibold">Early Bench</b> does not know this browser yet.
      </h1>
      <p className="mt-4 text-secondary">Run this on the bench’s computer, and open the address that it prints:</p>
      <CommandLine>bin/earlybench console</CommandLine>
      <form
        className="mt-6 flex gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          enter(typed);
        }}
      >
        <label className="grow text-caption text-secondary">
          Or paste that address here
          <input className="input mt-1 w-full" value={typed} onChange={(e) => setTyped(e.target.value)} />
        </label>
        <button type="submit" className="press press-main self-end">
          Sign in
        </button>
      </form>
      {signIn.error && (
        <p role="alert" className="mt-4 text-row">
          {signIn.error instanceof Problem ? signIn.error.message : "The bench does not answer. Is it running?"}
        </p>
      )}
    </main>
  );
}
