import { useAddDriver } from "../api/owner";
import { OwnerOnly } from "./OwnerOnly";
import { ProblemText } from "./ProblemText";

/** Gives the bench a driver set's file. */
export function AddDriver() {
  const add = useAddDriver();
  return (
    <OwnerOnly what="Add a driver set's file" command="earlybench driver add FILE">
      <label className="mt-2 block text-row">
        Driver set&apos;s file (.ebset)
        <input
          type="file"
          accept=".ebset"
          className="file-input file-input-sm mt-0.5 block w-full max-w-md"
          onChange={(e) => {
            const file = e.target.files?.[0];
            if (file) add.mutate(file);
          }}
        />
      </label>
      {add.data && (
        <p role="status" className="text-row">
          {add.data.name} {add.data.version} of {add.data.maker} is here. It is installed only when you consent.
        </p>
      )}
      <ProblemText error={add.error} />
    </OwnerOnly>
  );
}
