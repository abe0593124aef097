import { QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { queryClient } from "../api/queries";
import type { Job, Prep, Step } from "../api/types";
import { device, step } from "../testing/device";
import { CurrentStep } from "./CurrentStep";
import { Plan } from "./Plan";

const prep = (next: Step | null, more: Partial<Prep> = {}): Prep => ({
  device: device("heron-2", {
    summary: next ? "blocked" : "ready",
    gates: { mode: next ? "shut" : "open", admitted: "unknown" },
    first: next?.gate ?? "",
    next,
  }),
  steps: [],
  offer: null,
  need: null,
  apps: [],
  lacks: {},
  ...more,
});

let answers: Record<string, unknown> = {};
let sent: { path: string; body: unknown }[] = [];

beforeEach(() => {
  queryClient.clear();
  sent = [];
  answers = {
    "/api/v1/jobs": { items: [] },
    "/api/v1/projects": {
      items: [{ app: "fellgate/callout", families: ["tarn"], name: "Callout", version: "2.3", dir: "/d" }],
    },
  };
  vi.stubGlobal("fetch", async (request: Request) => {
    const path = new URL(request.url, "http://bench").pathname;
    if (request.method === "POST") {
      const text = await request.text();
      sent.push({ path, body: text ? JSON.parse(text) : undefined });
      return new Response(JSON.stringify({ detail: "heron-2 is busy.", remedy: "Wait." }), {
        status: 409,
        headers: { "Content-Type": "application/problem+json" },
      });
    }
    return new Response(JSON.stringify(answers[path]), { headers: { "Content-Type": "application/json" } });
  });
});

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const show = (p: Prep) =>
  render(
    <QueryClientProvider client={queryClient}>
      <CurrentStep prep={p} />
    </QueryClientProvider>,
  );

test("a step by hand says where, and takes one's word", async () => {
  show(prep(step({})));
  expect(screen.getByRole("heading").textContent).toBe("Tap Batch six times");
  expect(screen.getByText("Inside label")).toBeTruthy();
  fireEvent.click(screen.getByRole("button", { name: "I have done that" }));
  expect((await screen.findByRole("alert")).textContent).toContain("heron-2 is busy. Wait.");
  expect(sent).toEqual([{ path: "/api/v1/devices/heron-2/told", body: { step: "tap" } }]);
});

test("a step that the bench sees for itself has nothing to press", () => {
  show(prep(step({ id: "plug", tell: false })));
  expect(screen.queryByRole("button")).toBeNull();
});

test("a driver set is consented to by its digest", async () => {
  const offer = {
    digest: "93721a",
    name: "halden-link",
    version: "4.1",
    maker: "Halden",
    about: "",
    fits: ["f3e0:0104"],
    size: 1400000,
    signer: "Upland publishing",
    publisher: "5f",
    fit: "exact" as const,
    why: "it names the ids f3e0:0104",
    depot: "",
    service: false,
    here: true,
    installed: false,
    bound: false,
    verified: true,
    difference: "",
    against: [{ word: "unsigned" as const, text: "It is not signed." }],
  };
  show(prep(step({ id: "driver", gate: "driver", who: "computer", action: "driver.install", tell: false }), { offer }));
  fireEvent.click(screen.getByRole("button", { name: "Install halden-link 4.1 on loft nevertheless" }));
  await screen.findByText("It is not signed.");
  expect(sent[0]!.body).toEqual({ accept: "93721a", despite: ["unsigned"] });
});

test("without a driver set that fits, one is told how to add it", () => {
  show(prep(step({ action: "driver.install", tell: false })));
  expect(screen.getByRole("button", { name: "Add a driver set's file" })).toBeTruthy();
});

test("while it asks, one is sent to its screen", () => {
  const p = prep(step({ id: "admit", gate: "admitted", action: "admission.ask", tell: false }));
  show({ ...p, device: { ...p.device, gates: { admitted: "waiting" }, asking_seconds: 119 } });
  expect(screen.getByText(/It is asking now. Answer on its screen/).textContent).toContain("within 1:59.");
});

test("a ready device runs what the bench can build", async () => {
  show(prep(null));
  fireEvent.click(await screen.findByRole("button", { name: "Try Callout" }));
  await screen.findByRole("alert");
  expect(sent[0]).toEqual({ path: "/api/v1/runs", body: { device: "heron-2", app: "fellgate/callout", try: true } });
});

test("where the computer stands in the way, that is said, and not that it is ready", () => {
  const p = prep(null);
  show({
    ...p,
    device: device("heron-2", {
      summary: "blocked",
      first: "kit",
      computer: { kit: "shut" },
      says: "The kit is not here.",
    }),
  });
  expect(screen.getByRole("heading").textContent).toBe("The kit is not here.");
  expect(screen.queryByText(/is ready/)).toBeNull();
});

const job = (more: Partial<Job>): Job => ({
  id: "1",
  kind: "app.run",
  title: "Run fellgate/callout on heron-2",
  device: "heron-2",
  parent: "",
  actor: "owner/ada",
  state: "running",
  phases: [
    { name: "copy", state: "running", done: 1500000, total: 3000000, note: "", asks: "", began: null, ended: null },
  ],
  error: null,
  result: null,
  put: null,
  again: false,
  created: "2026-11-23T06:52:00Z",
  ended: null,
  ...more,
});

test("running work shows its bytes and can be stopped", async () => {
  answers["/api/v1/jobs"] = { items: [job({})] };
  show(prep(null));
  expect((await screen.findByRole("progressbar")).getAttribute("value")).toBe("1500000");
  expect(screen.getByText(/1.5 MB of 3.0 MB/)).toBeTruthy();
  fireEvent.click(screen.getByRole("button", { name: "Stop" }));
  await vi.waitFor(() => expect(sent[0]!.path).toBe("/api/v1/jobs/1/stop"));
});

test("work that failed says why and what to do", async () => {
  answers["/api/v1/jobs"] = {
    items: [
      job({
        state: "failed",
        error: { kind: "gone", text: "It went away at byte 7.", gate: "", remedy: "Plug it in." },
      }),
    ],
  };
  show(prep(null));
  expect((await screen.findByText("It went away at byte 7.")).textContent).toBeTruthy();
  expect(screen.getByText("Plug it in.")).toBeTruthy();
});

test("the plan marks what is done, told and current", () => {
  render(
    <Plan
      steps={[step({ id: "a", done: true }), step({ id: "b", done: true, told: true }), step({ id: "c" })]}
      current="c"
    />,
  );
  expect(screen.getAllByLabelText("done")).toHaveLength(2);
  expect(screen.getByText("confirmed by you")).toBeTruthy();
  expect(screen.getAllByRole("listitem")[2]!.getAttribute("aria-current")).toBe("step");
});
