import type { MayRun } from "../api/types";

/** An app on a device. */
export type Chosen = { app: string; device: string };

const every = (apps: MayRun["apps"]) => apps.flatMap((a) => a.cells.map((c) => ({ ...c, app: a.app })));

/** The first cell that is stopped where something can be done about it. */
export function stoppedIn(apps: MayRun["apps"]): Chosen | undefined {
  return every(apps).find((c) => !c.unfit && (c.state === "shut" || c.state === "waiting"));
}

/** The cell that was chosen while it is there, else the first that is stopped, else the first. */
export function cellOf(apps: MayRun["apps"], chosen: Chosen | undefined): Chosen | undefined {
  const all = every(apps);
  const cell =
    all.find((c) => c.app === chosen?.app && c.device === chosen.device) ??
    stoppedIn(apps) ??
    all.find((c) => !c.unfit) ??
    all[0];
  return cell && { app: cell.app, device: cell.device };
}
