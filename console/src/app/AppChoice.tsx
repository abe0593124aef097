import { useProjects } from "../api/queries";
import { choose, useChosenApp } from "./chosenApp";

/** The app for which devices are prepared. The only one there is is chosen at first, of several none. */
export function AppChoice() {
  const projects = useProjects().data?.items ?? [];
  const app = useChosenApp();
  if (projects.length === 0) return null;
  return (
    <label className="flex items-center gap-2 text-row text-secondary">
      For the app
      <select className="select select-sm w-auto" value={app} onChange={(e) => choose(e.target.value)}>
        <option value="">none</option>
        {projects.map((p) => (
          <option key={p.app} value={p.app}>
            {p.name || p.app}
          </option>
        ))}
      </select>
    </label>
  );
}
