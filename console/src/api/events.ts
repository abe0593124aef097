import { useEffect, useState } from "react";
import { follow } from "./follow";
import { fetchDevices, queryClient } from "./queries";
import type { Device, Line } from "./types";

/** What has to be asked again after an event of a type. */
const stale: Record<string, string[]> = {
  "device.changed": ["round", "unrecognised", "tree", "may-run"],
  "sheet.changed": ["sheets", "devices", "round", "prep", "why", "unrecognised"],
  "learned.changed": ["why"],
  "job.changed": ["jobs"],
  "tryout.added": ["tryouts"],
  "trial.changed": ["devices", "round", "prep", "why", "may-run"],
  "app.changed": ["devices", "round", "prep", "why", "may-run", "explain"],
  "project.changed": ["projects", "check", "may-run"],
  "driver.changed": ["prep", "drivers"],
  "support.changed": ["prep", "support", "needs"],
  "depot.changed": ["prep", "depots", "needs"],
  "kit.changed": ["kits", "check"],
  "safe.changed": ["safe"],
  "authority.changed": ["authorities", "accounts", "register", "may-run"],
  "account.changed": ["accounts", "register", "identities", "devices", "prep", "may-run", "explain"],
  "register.changed": ["register", "accounts", "identities", "may-run", "explain"],
  "identity.changed": ["identities", "endings", "may-run"],
  "statement.changed": ["statements", "endings", "devices", "prep", "may-run", "explain"],
  "status-list.changed": ["statements", "devices", "prep", "may-run", "explain"],
  "setting.changed": ["bench"],
  "session.changed": ["sessions"],
  "host.changed": ["hosts", "tree", "check"],
  "network.changed": ["network", "introduction"],
  "access.changed": ["access"],
  "peer.changed": ["peers", "peering", "far"],
  "loan.changed": ["loans", "far", "devices"],
  "reservation.changed": ["reservations", "devices"],
};

/** What is asked of one device, and asked again when it stands otherwise, or when only facts of it have changed. */
const ofDevice = ["prep", "why", "facts", "history", "retirement", "explain"];
const ofFacts = ["why", "facts", "history"];

/**
 * Changes brings what is shown up to date, one asking after the other. The first change is asked for at once; those
 * that come while an answer is awaited are taken together.
 */
class Changes {
  private keys = new Set<string>();
  private devices = new Set<string>();
  private facts = new Set<string>();
  private timer: number | undefined;
  private asking = false;

  add(type: string, subject: string) {
    for (const key of stale[type] ?? []) this.keys.add(key);
    if (type === "device.changed") this.devices.add(subject);
    if (type === "fact.changed") this.facts.add(subject);
    this.later();
  }

  close() {
    window.clearTimeout(this.timer);
  }

  private later() {
    if (!this.asking) this.timer ??= window.setTimeout(() => void this.ask());
  }

  private async ask() {
    this.timer = undefined;
    this.asking = true;
    const { keys, devices, facts } = this;
    this.keys = new Set();
    this.devices = new Set();
    this.facts = new Set();
    try {
      for (const key of keys) void queryClient.invalidateQueries({ queryKey: [key] });
      for (const { queryKey } of queryClient.getQueryCache().findAll()) {
        const [what, handle] = queryKey as [string, string];
        if ((devices.has(handle) && ofDevice.includes(what)) || (facts.has(handle) && ofFacts.includes(what)))
          void queryClient.invalidateQueries({ queryKey });
      }
      if (devices.size > 0) await refreshDevices([...devices]);
    } finally {
      this.asking = false;
      if (this.keys.size + this.devices.size + this.facts.size > 0) this.later();
    }
  }
}

const many = 250; // handles in one asking; more are asked for as the whole rack

/** refreshDevices puts the devices that changed into each rack that is shown; the others stay the same objects. */
async function refreshDevices(handles: string[]) {
  void queryClient.invalidateQueries({ queryKey: ["devices"], type: "inactive" });
  const racks = queryClient.getQueryCache().findAll({ queryKey: ["devices"], type: "active" });
  await Promise.all(
    racks.map(async ({ queryKey }) => {
      const app = String(queryKey[1] ?? "");
      const before = queryClient.getQueryData<{ items: Device[] }>(queryKey);
      const known = new Set(before?.items.map((d) => d.handle));
      if (handles.length > many || !before || handles.some((h) => !known.has(h)))
        return queryClient.invalidateQueries({ queryKey });
      const fresh = new Map((await fetchDevices(app, handles)).map((d) => [d.handle, d]));
      if (fresh.size < handles.length) return queryClient.invalidateQueries({ queryKey }); // one has gone
      queryClient.setQueryData<{ items: Device[] }>(
        queryKey,
        (now) => now && { ...now, items: now.items.map((d) => fresh.get(d.handle) ?? d) },
      );
    }),
  );
}

/** useEvents keeps what is shown as it is, and tells whether the service answers. */
export function useEvents(after: number | undefined): boolean {
  const [live, setLive] = useState(true);
  const ready = after !== undefined;
  useEffect(() => {
    if (!ready) return;
    const changes = new Changes();
    let last = after;
    let opened = false;
    const leave = follow<{ id: string; type: string; subject: string }>(() => `/api/v1/events?after=${last}`, {
      message: ({ id, type, subject }) => {
        last = Number(id.split("/").pop());
        if (type === "reset")
          void queryClient.invalidateQueries(); // what happened before is not told any more
        else changes.add(type, subject);
      },
      open: () => {
        setLive(true);
        if (opened) void queryClient.invalidateQueries(); // what was missed meanwhile
        opened = true;
      },
      end: () => setLive(false),
    });
    return () => {
      changes.close();
      leave();
    };
    // The sequence counts only where following begins.
  }, [ready]);
  return live;
}

const kept = 500; // lines

/** useLog follows a device's log while it is linked. One that falls asleep is not woken for that. */
export function useLog(handle: string, linked: boolean): Line[] {
  const [lines, setLines] = useState<Line[]>([]);
  useEffect(() => {
    if (!linked) return;
    setLines([]);
    return follow<Line>(() => `/api/v1/devices/${encodeURIComponent(handle)}/log?wake=no`, {
      message: (line) =>
        setLines((before) => (before.some((l) => l.seq === line.seq) ? before : [...before, line].slice(-kept))),
    });
  }, [handle, linked]);
  return lines;
}
