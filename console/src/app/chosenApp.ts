import { useSyncExternalStore } from "react";
import { useProjects } from "../api/queries";

const key = "app";
const listeners = new Set<() => void>();

/** choose says with which app devices are shown and led, for as long as this browser's session lasts. */
export function choose(app: string) {
  sessionStorage.setItem(key, app);
  for (const tell of listeners) tell();
}

function subscribe(tell: () => void) {
  listeners.add(tell);
  return () => listeners.delete(tell);
}

/** useChosenApp is the app that was chosen; if nothing was and the bench knows only one, it is that one. "" is none. */
export function useChosenApp(): string {
  const known = useProjects().data;
  const chosen = useSyncExternalStore(subscribe, () => sessionStorage.getItem(key));
  if (!known) return chosen ?? "";
  const projects = known.items;
  if (chosen === null && projects.length === 1 && projects[0]) return projects[0].app;
  return projects.some((p) => p.app === chosen) ? chosen! : "";
}
