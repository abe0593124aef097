import { useState } from "react";
import { useAddHost } from "../api/owner";
import { Field } from "../parts/Field";
import { ProblemText } from "../parts/ProblemText";

const none = { name: "", usbip: "", control: "" };

/** Watches another computer for devices. */
export function AddHost() {
  const [host, setHost] = useState(none);
  const add = useAddHost();
  const set = (key: keyof typeof none) => (value: string) => setHost({ ...host, [key]: value });
  return (
    <form
      aria-label="Watch another host"
      className="mt-2 space-y-2"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate(host, { onSuccess: () => setHost(none) });
      }}
    >
      <Field label="Name of the host" value={host.name} onChange={set("name")} required />
      <Field
        label="Its USB/IP exporter"
        hint="such as 192.0.2.7:3240"
        value={host.usbip}
        onChange={set("usbip")}
        required
      />
      <Field
        label="Its host protocol"
        hint="such as 192.0.2.7:7431"
        value={host.control}
        onChange={set("control")}
        required
      />
      <button type="submit" className="press press-small" disabled={add.isPending}>
        Watch it
      </button>
      <ProblemText error={add.error} />
    </form>
  );
}
