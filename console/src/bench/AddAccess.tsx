import { useState } from "react";
import { useAddAccess } from "../api/owner";
import { CommandLine } from "../parts/CommandLine";
import { Field } from "../parts/Field";
import { ProblemText } from "../parts/ProblemText";

const rights = [
  { name: "look", means: "see what is there" },
  { name: "use", means: "prepare devices, run apps" },
  { name: "maintain", means: "add drivers and sheets" },
];
const lengths = [
  { hours: "24h", means: "a day" },
  { hours: "720h", means: "30 days" },
  { hours: "8760h", means: "a year" },
];

/** Makes an access key; its secret is shown this once. */
export function AddAccess() {
  const [name, setName] = useState("");
  const [may, setMay] = useState(["use"]);
  const [good, setGood] = useState("720h");
  const add = useAddAccess();
  return (
    <form
      aria-label="Make an access key"
      className="mt-2 space-y-2"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate({ name, rights: may, for: good }, { onSuccess: () => setName("") });
      }}
    >
      <Field label="Name of the key" hint="such as nightly" value={name} onChange={setName} required />
      <fieldset>
        <legend className="text-row">It may</legend>
        {rights.map((r) => (
          <label key={r.name} className="flex min-h-6 items-center gap-2 text-row">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              checked={may.includes(r.name)}
              onChange={(e) => setMay(e.target.checked ? [...may, r.name] : may.filter((m) => m !== r.name))}
            />
            {r.name} <span className="text-secondary">{r.means}</span>
          </label>
        ))}
      </fieldset>
      <label className="flex items-center gap-2 text-row">
        It ends after
        <select className="select select-sm w-auto" value={good} onChange={(e) => setGood(e.target.value)}>
          {lengths.map((l) => (
            <option key={l.hours} value={l.hours}>
              {l.means}
            </option>
          ))}
        </select>
      </label>
      <button type="submit" className="press press-small" disabled={add.isPending}>
        Make the key
      </button>
      {add.data && (
        <div role="status" className="text-row">
          The key {add.data.name} is shown this once. Copy it now: <CommandLine>{add.data.secret}</CommandLine>
        </div>
      )}
      <ProblemText error={add.error} />
    </form>
  );
}
