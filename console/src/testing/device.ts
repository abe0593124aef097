import type { Device, Step } from "../api/types";

/** A device for tests: ready, unless more says otherwise. */
export const device = (handle: string, more: Partial<Device> = {}): Device => ({
  handle,
  serial: "HH4",
  family: "tarn",
  maker: "Halden",
  model: "Heron 4",
  code: "H4",
  release: "12",
  summary: "ready",
  gates: { seen: "open", mode: "open" },
  first: "",
  next: null,
  says: "",
  link: "cable",
  host: "loft",
  port: "hub port 1",
  hands_url: "",
  device_key: "",
  working: "",
  revision: 1,
  ...more,
});

/** A step for tests: one by hand, unless more says otherwise. */
export const step = (more: Partial<Step> = {}): Step => ({
  id: "tap",
  gate: "mode",
  who: "hands",
  title: "Tap Batch six times",
  text: "Tap **Batch** six times",
  note: "",
  where: ["Care", "Inside label", "Batch"],
  sight: "",
  risk: "",
  action: "",
  minutes: 1,
  done: false,
  told: false,
  tell: true,
  draw: null,
  ...more,
});
