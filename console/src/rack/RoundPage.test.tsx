import { QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, within } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { queryClient } from "../api/queries";
import type { RoundGroup } from "../api/types";
import { device, step } from "../testing/device";
import { RoundPage } from "./RoundPage";

const linked = { seen: "open", mode: "shut", linked: "open" };
const group = (who: RoundGroup["who"], title: string, ...handles: string[]): RoundGroup => ({
  who,
  title,
  gate: "mode",
  note: "",
  minutes: handles.length,
  devices: handles.map((h) => device(h, { summary: "blocked", first: "mode", gates: linked })),
});

let round: unknown;
let posted: string[] = [];
const results = [
  { device: "heron-1", job: "a", state: "done", tryout: "t", error: null },
  {
    device: "heron-2",
    job: "b",
    state: "failed",
    tryout: "",
    error: { kind: "failed", text: "It crashed.", gate: "", remedy: "" },
  },
];

beforeEach(() => {
  queryClient.clear();
  posted = [];
  vi.stubGlobal("fetch", async (request: Request) => {
    const { pathname } = new URL(request.url);
    if (request.method === "POST") {
      posted.push(pathname);
      return new Response(JSON.stringify({ id: "j1" }), { headers: { "Content-Type": "application/json" } });
    }
    const answer = pathname.endsWith("/projects")
      ? { items: [{ app: "fellgate/callout", name: "Callout", version: "2.3", families: ["tarn"], dir: "/d" }] }
      : pathname.includes("/jobs/")
        ? { id: "j1", title: "Try", ended: "2026-11-26T08:00:00Z", result: { devices: results } }
        : round;
    return new Response(JSON.stringify(answer), { headers: { "Content-Type": "application/json" } });
  });
});

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const show = () =>
  render(
    <QueryClientProvider client={queryClient}>
      <MemoryRouter>
        <RoundPage />
      </MemoryRouter>
    </QueryClientProvider>,
  );

test("the first group is large, and says how many wait for what", async () => {
  round = {
    groups: [
      group("hands", "Tap **Batch** six times", "heron-2", "heron-3"),
      group("computer", "Take it back", "ivory-2"),
    ],
    ready: ["heron-1"],
  };
  show();
  const hero = await screen.findByRole("region", { name: "Begin here" });
  expect(within(hero).getByRole("heading").textContent).toBe("2 devices wait: tap Batch six times");
  expect(within(hero).getByRole("link", { name: "Begin with heron-2" }).getAttribute("href")).toBe("/devices/heron-2");
  expect(screen.getByRole("heading", { level: 1 }).textContent).toBe(
    "3 devices wait for 2 next steps. 1 needs nothing.",
  );
  const computer = screen.getByRole("region", { name: "At the computer" });
  expect(within(computer).getByText("Take it back")).toBeTruthy();
  expect(within(screen.getByRole("region", { name: "With your hands" })).getByText("Nothing more.")).toBeTruthy();
  expect(within(screen.getByRole("region", { name: "By itself" })).getByRole("link", { name: "heron-1" })).toBeTruthy();
});

test("a linked device is asked to show which it is", async () => {
  round = { groups: [group("hands", "Tap it", "heron-2")], ready: [] };
  show();
  fireEvent.click(await screen.findByRole("button", { name: /Identify/ }));
  await vi.waitFor(() => expect(posted).toEqual(["/api/v1/devices/heron-2/find"]));
  expect(await screen.findByText("Shown on its screen")).toBeTruthy();
});

test("an empty rack has nothing to walk", async () => {
  round = { groups: [], ready: [] };
  show();
  expect(await screen.findByText("The rack is empty.")).toBeTruthy();
});

test("the request is shown on all of a group at once", async () => {
  const asking = group("hands", "Say yes to this computer", "ivory-1", "ivory-3");
  for (const d of asking.devices) d.next = step({ action: "admission.ask" });
  asking.devices[0]!.gates = { admitted: "waiting" };
  asking.devices[0]!.asking_seconds = 105;
  round = { groups: [asking], ready: [] };
  show();
  fireEvent.click(await screen.findByRole("button", { name: "Show the request on all 2" }));
  await vi.waitFor(() =>
    expect(posted).toEqual(["/api/v1/devices/ivory-1/admission", "/api/v1/devices/ivory-3/admission"]),
  );
  expect(screen.getByText(/These are asking now/)).toBeTruthy();
  expect(screen.getByText("1:45")).toBeTruthy();
});

test("an app is tried on all that are ready, with one table", async () => {
  round = { groups: [], ready: ["heron-1", "heron-2"] };
  show();
  fireEvent.click(await screen.findByRole("button", { name: "Try Callout on all 2" }));
  expect(await screen.findByText("It crashed.")).toBeTruthy();
  expect(screen.getByLabelText("passed")).toBeTruthy();
  expect(screen.getByLabelText("failed")).toBeTruthy();
});
