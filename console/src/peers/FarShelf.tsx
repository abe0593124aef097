import { useState } from "react";
import { Link } from "react-router";
import { useBorrow, useEndLoan, useFarDevices, useLoans } from "../api/peers";
import type { FarDevice, Loan } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { hourText } from "../parts/time";

/** The devices that peers offer: whose they are, what is free, until when, and a button to borrow one. */
export function FarShelf() {
  const far = useFarDevices();
  const loans = useLoans();
  const items = far.data?.items ?? [];
  if (items.length === 0) return null;
  const own = (d: FarDevice) =>
    loans.data?.items.find(
      (l) =>
        !l.lent && l.peer === d.peer && l.far_device === d.handle && l.state !== "ended" && l.state !== "returning",
    );
  return (
    <section aria-label="At other benches" className="mt-6">
      <h2 className="text-section font-semibold">At other benches</h2>
      <table className="mt-1 w-full text-row">
        <thead className="text-left text-caption text-secondary">
          <tr>
            <th className="font-normal">device</th>
            <th className="hidden font-normal sm:table-cell">model</th>
            <th className="hidden font-normal sm:table-cell">of</th>
            <th className="font-normal">state</th>
            <th className="font-normal">
              <span className="sr-only">what can be done</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {items.map((d) => (
            <FarRow key={`${d.peer}/${d.handle}`} device={d} loan={own(d)} />
          ))}
        </tbody>
      </table>
    </section>
  );
}

function FarRow({ device, loan }: { device: FarDevice; loan: Loan | undefined }) {
  return (
    <tr className="border-t border-base-300 align-baseline">
      <td className="py-1.5 pr-3 whitespace-nowrap">
        <b className="font-semibold">{device.handle}</b>
        <span className="block text-caption text-secondary sm:hidden">of {device.peer}</span>
      </td>
      <td className="hidden py-1.5 pr-3 sm:table-cell">
        {device.maker} {device.model} {device.release}
      </td>
      <td className="hidden py-1.5 pr-3 whitespace-nowrap sm:table-cell">{device.peer}</td>
      <td className="py-1.5 pr-3">
        {stateText(device)}
        {device.state === "free" && device.summary !== "ready" && `, ${device.summary} there`}
      </td>
      <td className="py-1 text-right">{loan ? <Own loan={loan} /> : device.connected && <Borrow device={device} />}</td>
    </tr>
  );
}

function stateText(d: FarDevice) {
  const until =
    d.left_seconds > 0 ? ` until ${hourText(new Date(Date.now() + d.left_seconds * 1000).toISOString())}` : "";
  const waiting = d.waiting > 0 ? `, ${d.waiting} waiting` : "";
  if (!d.connected) return `${d.peer} is not connected`;
  if (d.state === "yours") return `borrowed${until}${waiting}`;
  if (d.state === "absent") return "not reached there";
  return `${d.state}${d.state === "lent" ? until : ""}${waiting}`;
}

/** What is borrowed already, or waited for. */
function Own({ loan }: { loan: Loan }) {
  const end = useEndLoan(loan.id);
  if (loan.state === "active" && loan.device !== "")
    return (
      <Link className="press-link" to={`/devices/${loan.device}`}>
        Open<span className="sr-only"> {loan.device}</span>
      </Link>
    );
  if (loan.state === "active" && loan.exclusive)
    return (
      <>
        <span className="mr-3 text-secondary">
          {loan.usb ? (
            <>
              Its USB is at <span className="mono">{loan.usb}</span> as <span className="mono">{loan.usb_bus_id}</span>
            </>
          ) : (
            `Its USB is being fetched. ${loan.why}`
          )}
        </span>
        <button type="button" className="press press-small" disabled={end.isPending} onClick={() => end.mutate(0)}>
          Give {loan.far_device} back
        </button>
        <ProblemText error={end.error} />
      </>
    );
  return (
    <>
      {loan.state === "waiting" && (
        <span className="mr-3 text-secondary">
          {loan.place > 0 ? `Place ${loan.place} in the queue` : "Waiting"}
          {loan.wait_seconds > 0 &&
            `, likely until ${hourText(new Date(Date.now() + loan.wait_seconds * 1000).toISOString())}`}
          {loan.why && `. ${loan.why}`}
        </span>
      )}
      <button type="button" className="press press-small" disabled={end.isPending} onClick={() => end.mutate(0)}>
        Give up<span className="sr-only"> waiting for {loan.far_device}</span>
      </button>
      <ProblemText error={end.error} />
    </>
  );
}

const lengths = [
  { seconds: 1800, means: "30 minutes" },
  { seconds: 7200, means: "2 hours" },
  { seconds: 28800, means: "8 hours" },
];

function Borrow({ device }: { device: FarDevice }) {
  const [long, setLong] = useState(7200);
  const borrow = useBorrow();
  return (
    <>
      <span className="inline-flex flex-wrap items-center justify-end gap-2">
        <select
          aria-label={`How long ${device.handle} is borrowed`}
          className="select select-sm w-auto"
          value={long}
          onChange={(e) => setLong(Number(e.target.value))}
        >
          {lengths.map((l) => (
            <option key={l.seconds} value={l.seconds}>
              {l.means}
            </option>
          ))}
        </select>
        <button
          type="button"
          className="press press-small"
          disabled={borrow.isPending}
          onClick={() =>
            borrow.mutate({ peer: device.peer, device: device.handle, may: device.may, for_seconds: long })
          }
        >
          {device.state === "free" ? "Borrow" : "Queue for"} {device.handle}
        </button>
      </span>
      <ProblemText error={borrow.error} />
    </>
  );
}
