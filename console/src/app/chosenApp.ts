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

/**
 * useChosenApp is the app that was chosen; if nothing was and the bench knows only one, it is that one. "" is none,
 * undefined is not known yet: until then nothing is asked about a device, or steps for another app would flash up.
 */
export function useChosenApp(): string | undefined {
  const projects = useProjects();
  const chosen = useSyncExternalStore(subscribe, () => sessionStorage.getItem(key));
  if (projects.isPending) return undefined;
  const known = projects.data?.items ?? [];
  if (chosen === null && known.length === 1 && known[0]) return known[0].app;
  return known.some((p) => p.app === chosen) ? chosen! : "";
}
