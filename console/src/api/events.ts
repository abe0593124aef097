import { useEffect, useState } from "react";
import { queryClient } from "./queries";
import type { Line } from "./types";

/** What has to be asked again after an event of a type. */
const stale: Record<string, string[]> = {
  "device.changed": ["devices", "round", "prep", "why", "strange", "facts", "history", "retirement"],
  "sheet.changed": ["sheets", "devices", "round", "prep", "why", "strange"],
  "learned.changed": ["why"],
  "job.changed": ["jobs"],
  "tryout.added": ["tryouts"],
  "project.changed": ["projects"],
  "set.changed": ["prep"],
  "setting.changed": ["bench"],
};

const gather = 50; // milliseconds in which events are taken together

/** useEvents keeps what is shown as it is, and tells whether the service answers. */
export function useEvents(after: number | undefined): boolean {
  const [live, setLive] = useState(true);
  const ready = after !== undefined;
  useEffect(() => {
    if (!ready) return;
    const source = new EventSource(`/api/v1/events?after=${after}`);
    const due = new Set<string>();
    let timer: number | undefined;
    const ask = () => {
      timer = undefined;
      for (const key of due) queryClient.invalidateQueries({ queryKey: [key] });
      due.clear();
    };
    source.onmessage = (e) => {
      const { type } = JSON.parse(e.data) as { type: string };
      for (const key of stale[type] ?? []) due.add(key);
      timer ??= window.setTimeout(ask, gather);
    };
    let opened = false;
    source.onopen = () => {
      setLive(true);
      if (opened) queryClient.invalidateQueries(); // what was missed meanwhile
      opened = true;
    };
    source.onerror = () => setLive(false);
    return () => {
      window.clearTimeout(timer);
      source.close();
    };
    // The sequence counts only where following begins.
  }, [ready]);
  return live;
}

const kept = 500; // lines

/** useLog follows a device's log while it is linked. */
export function useLog(handle: string, linked: boolean): Line[] {
  const [lines, setLines] = useState<Line[]>([]);
  useEffect(() => {
    if (!linked) return;
    setLines([]);
    const source = new EventSource(`/api/v1/devices/${encodeURIComponent(handle)}/log`);
    source.onmessage = (e) => {
      const line = JSON.parse(e.data) as Line;
      setLines((before) => (before.some((l) => l.seq === line.seq) ? before : [...before, line].slice(-kept)));
    };
    return () => source.close();
  }, [handle, linked]);
  return lines;
}
