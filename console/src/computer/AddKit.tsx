import { useState } from "react";
import { useAddKit } from "../api/supply";
import { Field } from "../parts/Field";
import { ProblemText } from "../parts/ProblemText";

/** Names the directory of a kit. */
export function AddKit() {
  const [name, setName] = useState("");
  const [path, setPath] = useState("");
  const add = useAddKit();
  return (
    <form
      aria-label="Name the directory of a kit"
      className="mt-2 space-y-2"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate({ name, path }, { onSuccess: () => setPath("") });
      }}
    >
      <Field label="Kit" hint="such as go" value={name} onChange={setName} required />
      <Field
        label="Directory on the computer of the bench"
        hint="Its programs are run to ask for their versions, so add only a kit that you trust."
        value={path}
        onChange={setPath}
        required
      />
      <button type="submit" className="press press-small" disabled={add.isPending}>
        Build with it
      </button>
      {add.data && (
        <p role="status" className="text-row">
          {add.data.path} is complete.
        </p>
      )}
      <ProblemText error={add.error} />
    </form>
  );
}
