import { useState } from "react";
import { useAppIDs, useTakeAppID } from "../api/belong";
import { Field } from "../parts/Field";
import { ProblemText } from "../parts/ProblemText";

/** The app ids of the crew, and a new one: a placeholder or a taken one is refused with others that are free. */
export function AppIDList({ crew }: { crew: string }) {
  const all = useAppIDs(true);
  const take = useTakeAppID();
  const [app, setApp] = useState("");
  const items = all.data?.items ?? [];
  return (
    <section aria-label="App ids" className="mt-8">
      <h2 className="text-section font-semibold">App ids</h2>
      <ProblemText error={all.error} />
      <ul className="mt-1 text-row">
        {items.map((a) => (
          <li key={a.id} className="border-b border-base-300 py-2">
            <b className="font-semibold">{a.id}</b>
          </li>
        ))}
      </ul>
      <form
        aria-label="New app id"
        className="mt-3 space-y-2"
        onSubmit={(e) => {
          e.preventDefault();
          take.mutate(`${crew}/${app}`, { onSuccess: () => setApp("") });
        }}
      >
        <Field label={`Name of an app, after ${crew}/`} value={app} onChange={setApp} required />
        <button type="submit" className="press press-small" disabled={take.isPending}>
          Take it for the crew
        </button>
        <p className="mt-1 text-caption text-secondary">
          To write it into a project: <span className="mono">earlybench app set DIRECTORY --id {crew}/NAME</span>.
        </p>
      </form>
      <ProblemText error={take.error} />
    </section>
  );
}
