import { useState } from "react";
import { useAddDevice, useSheets } from "../api/queries";
import { ProblemText } from "../parts/ProblemText";

/** Puts a device on the rack that no bus can show, since it has no data port. */
export function AddDevice() {
  const models = useSheets().data?.items.filter((s) => s.usb === "") ?? [];
  const [chosen, setChosen] = useState("");
  const add = useAddDevice();
  const model = models.find((m) => m.model === chosen) ?? models[0];
  if (!model) return null;
  return (
    <div className="flex flex-wrap items-center gap-3">
      {models.length > 1 && (
        <label className="flex items-center gap-2 text-row text-secondary">
          Model
          <select className="select select-sm w-auto" value={model.model} onChange={(e) => setChosen(e.target.value)}>
            {models.map((m) => (
              <option key={m.sheet + m.code} value={m.model}>
                {m.maker} {m.model}
              </option>
            ))}
          </select>
        </label>
      )}
      <button
        type="button"
        className="press press-small"
        disabled={add.isPending}
        onClick={() => add.mutate(model.model)}
      >
        Put a {model.model} on the rack
      </button>
      {add.data && (
        <span role="status" className="text-row">
          {add.data.handle} is on the rack.
        </span>
      )}
      <ProblemText error={add.error} />
    </div>
  );
}
