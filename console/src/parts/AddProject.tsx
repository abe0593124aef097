import { useState } from "react";
import { useAddProject } from "../api/owner";
import { Field } from "./Field";
import { OwnerOnly } from "./OwnerOnly";
import { ProblemText } from "./ProblemText";

/** Names an app's directory, from which the bench may build. */
export function AddProject() {
  const [dir, setDir] = useState("");
  const add = useAddProject();
  return (
    <OwnerOnly what="Name an app's directory" command="earlybench project add DIR">
      <form
        aria-label="Name an app's directory"
        className="mt-2 space-y-2"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate(dir, { onSuccess: () => setDir("") });
        }}
      >
        <Field
          label="Directory on the computer of the bench"
          hint="Building runs commands from the directory, so add only one that you trust."
          value={dir}
          onChange={setDir}
          required
        />
        <button type="submit" className="press press-small" disabled={add.isPending}>
          Build from it
        </button>
        {add.data && (
          <p role="status" className="text-row">
            {add.data.app} {add.data.version} can be built.
          </p>
        )}
        <ProblemText error={add.error} />
      </form>
    </OwnerOnly>
  );
}
