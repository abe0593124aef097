import { useState } from "react";
import { useRename } from "../api/owner";
import { Field } from "../parts/Field";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";

/** Gives the bench another name. */
export function Rename({ now }: { now: string }) {
  const [name, setName] = useState(now);
  const rename = useRename();
  return (
    <OwnerOnly what="Rename this bench" command="earlybench serve --name NAME">
      <form
        aria-label="Rename this bench"
        className="mt-2 space-y-2"
        onSubmit={(e) => {
          e.preventDefault();
          rename.mutate(name);
        }}
      >
        <Field
          label="Name of this bench"
          hint="Devices show it when they ask whether to let this bench in."
          value={name}
          onChange={setName}
          required
        />
        <button type="submit" className="press press-small" disabled={rename.isPending || name === now}>
          Rename it
        </button>
        <ProblemText error={rename.error} />
      </form>
    </OwnerOnly>
  );
}
