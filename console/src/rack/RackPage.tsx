import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import { useChosen, useDevices } from "../api/queries";
import type { Device } from "../api/types";
import { AppChoice } from "../app/AppChoice";
import { useChosenApp } from "../app/chosenApp";
import { plain } from "../parts/Emphasis";
import { GateLegend } from "../parts/GateLegend";
import { isReady } from "../parts/gates";
import { ProblemText } from "../parts/ProblemText";
import { FarShelf } from "../peers/FarShelf";
import { EmptyRack } from "./EmptyRack";
import { Matrix } from "./Matrix";
import { Shelf } from "./Shelf";
import { Views } from "./Views";

/** All devices: a row a device, a column a gate, the next step at the row's end. */
export function RackPage() {
  const app = useChosenApp();
  const [words, setWords] = useState("");
  const devices = useDevices(app);
  const all = devices.data?.items ?? [];
  const expression = useDeferredValue(words.startsWith("=") ? words.slice(1).trim() : "");
  const chosen = useChosen(expression);
  const shown = all.filter((d) => (expression ? chosen.data?.has(d.handle) : matches(d, words)));
  return (
    <main className="px-5 pt-3 pb-10 md:px-8">
      <div className="flex flex-wrap items-end justify-between gap-4">
        <div>
          {devices.data && <Lead devices={all} />}
          <p className="mt-1 text-row text-secondary">{counts(all)}</p>
        </div>
        <div className="flex flex-wrap items-center gap-4">
          <Views />
          <AppChoice />
          <input
            aria-label="Filter devices"
            placeholder="Filter devices"
            title='Words, or = and an expression, such as = gate.mode == "shut"'
            className={`input input-sm border-0 bg-base-200 ${words.startsWith("=") ? "mono w-96" : "w-44"}`}
            value={words}
            onChange={(e) => setWords(e.target.value)}
          />
        </div>
      </div>
      <ProblemText error={devices.error ?? (expression ? chosen.error : null)} />
      {devices.data && all.length === 0 && <EmptyRack />}
      {all.length > 0 && shown.length === 0 && !chosen.error && (
        <p className="mt-10 text-secondary">
          {expression ? "No device matches." : "No device has all of these words."} There are {all.length} in all. An
          expression begins with =, such as <code className="mono">= device.family == "tarn"</code>.
        </p>
      )}
      {shown.length > 0 && <Matrix devices={shown} withApp={!!app} />}
      {shown.length > 0 && <GateLegend />}
      <FarShelf />
      <Shelf />
    </main>
  );
}

function matches(d: Device, words: string) {
  const text = [
    d.handle,
    d.maker,
    d.model,
    d.release,
    d.family,
    d.serial,
    d.summary,
    d.first,
    plain(d.next?.title ?? d.says),
  ]
    .join(" ")
    .toLowerCase();
  if (words.startsWith("=")) return true; // an expression that is still empty
  return words
    .toLowerCase()
    .split(/\s+/)
    .every((w) => text.includes(w));
}

function Lead({ devices }: { devices: Device[] }) {
  const next =
    devices.find((d) => d.summary === "preparing") ??
    devices.find((d) => d.next?.who === "hands" && d.summary !== "unseen") ??
    devices.find((d) => d.next);
  if (devices.length === 0) return <h1 className="text-lead">The rack is empty.</h1>;
  const stuck = devices.find((d) => !isReady(d));
  if (!next?.next && stuck) return <h1 className="text-lead">{plain(stuck.says)}</h1>;
  if (!next?.next) return <h1 className="text-lead">All devices are ready.</h1>;
  return (
    <h1 className="text-lead">
      <b className="font-semibold">{next.handle}</b>{" "}
      {next.next.who === "automatic" ? "goes on by itself" : "waits for you"}:{" "}
      {plain(next.next.title).replace(/^./, (c) => c.toLowerCase())}.{" "}
      <Link className="press-link text-row" to={`/devices/${next.handle}`}>
        Go on<span className="sr-only"> with {next.handle}</span>
      </Link>
    </h1>
  );
}

const order = ["ready", "expiring", "preparing", "blocked", "unseen", "retiring", "retired"];

function counts(devices: Device[]) {
  return order
    .map((s) => [devices.filter((d) => d.summary === s).length, s] as const)
    .filter(([n]) => n > 0)
    .map(([n, s]) => `${n} ${s}`)
    .join(", ");
}
