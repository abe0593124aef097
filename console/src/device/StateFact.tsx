import { useState } from "react";
import { useStateFact, useTellable } from "../api/queries";
import { ProblemText } from "../parts/ProblemText";

/** A form to state a fact that the bench cannot see, or to confirm one. */
export function StateFact({ handle }: { handle: string }) {
  const tellable = useTellable(handle);
  const state = useStateFact(handle);
  const [key, setKey] = useState("");
  const [value, setValue] = useState("");
  const facts = tellable.data?.items ?? [];
  const fact = facts.find((f) => f.key === key) ?? facts[0];
  if (!fact) return null;
  const values = fact.type === "bool" ? ["yes", "no"] : fact.values;
  const said = values.length > 0 && !values.includes(value) ? values[0]! : value;
  return (
    <form
      aria-label="State a fact"
      className="mt-4 max-w-prose"
      onSubmit={(e) => {
        e.preventDefault();
        state.mutate({ key: fact.key, value: said });
      }}
    >
      <h3 className="text-caption text-secondary">State what you know; what is observed takes precedence</h3>
      <div className="mt-1 flex flex-wrap items-center gap-2">
        <select
          aria-label="Fact"
          className="select select-sm w-60"
          value={fact.key}
          onChange={(e) => setKey(e.target.value)}
        >
          {facts.map((f) => (
            <option key={f.key} value={f.key}>
              {f.text}
            </option>
          ))}
        </select>
        {values.length > 0 ? (
          <select
            aria-label="Value"
            className="select select-sm w-40"
            value={said}
            onChange={(e) => setValue(e.target.value)}
          >
            {values.map((v) => (
              <option key={v}>{v}</option>
            ))}
          </select>
        ) : (
          <input
            aria-label="Value"
            required
            className="input input-sm w-40"
            value={value}
            onChange={(e) => setValue(e.target.value)}
          />
        )}
        <button type="submit" className="press press-small" disabled={state.isPending}>
          State it
        </button>
      </div>
      {state.isSuccess && (
        <p role="status" className="mt-1 text-row text-secondary">
          Saved, with your name.
        </p>
      )}
      <ProblemText error={state.error} />
    </form>
  );
}
