import { useState } from "react";
import { Mark } from "../app/Mark";
import { useHandOver, useHandover } from "../api/hands";
import { useBench } from "../api/queries";
import { Field } from "../parts/Field";
import { ProblemText } from "../parts/ProblemText";

/** On which somebody without a bench names devices, so that a debug token can name them: this, and nothing else. */
export function HandoverPage() {
  const bench = useBench();
  const { data: handover, error } = useHandover();
  const [serial, setSerial] = useState("");
  const [model, setModel] = useState("");
  const name = useHandOver();
  return (
    <>
      <header className="flex items-center gap-3 border-b border-base-300 px-5 py-3">
        <Mark />
        <h1 className="text-section font-semibold">{handover?.app}</h1>
        <span className="ml-auto text-caption text-secondary">{bench.data?.name}</span>
      </header>
      <main className="mx-auto max-w-xl pb-10">
        <ProblemText error={error} />
        {handover && (
          <form
            className="phone-step grid gap-4 bg-base-200 px-5 py-6"
            onSubmit={(e) => {
              e.preventDefault();
              name.mutate(
                { serial, model },
                {
                  onSuccess: () => {
                    setSerial("");
                    setModel("");
                  },
                },
              );
            }}
          >
            <p>
              {bench.data?.name} wants to give you {handover.app} for your devices, and needs to know them. The serial
              and the model are in the settings of a device, and on its box.
            </p>
            <Field label="Serial" value={serial} onChange={setSerial} />
            <Field label="Model" value={model} onChange={setModel} />
            <button type="submit" className="press press-main" disabled={name.isPending || !serial || !model}>
              Add this device
            </button>
            <ProblemText error={name.error} />
            {handover.devices.length > 0 && (
              <ul aria-label="Named devices" className="grid gap-1">
                {handover.devices.map((d) => (
                  <li key={d.serial}>
                    <code>{d.serial}</code>, {d.model}
                  </li>
                ))}
              </ul>
            )}
          </form>
        )}
      </main>
    </>
  );
}
