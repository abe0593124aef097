import { QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { queryClient } from "../api/queries";
import type { Device } from "../api/types";
import { device, step } from "../testing/device";
import { RetirePanel } from "./RetirePanel";

const items = [
  {
    step: step({ id: "apps-off", who: "automatic", title: "Take the apps off", done: true, tell: false }),
    at: "2026-11-23T06:52:00Z",
  },
  { step: step({ id: "out", title: "Blow it out", tell: true }) },
];
let sent: string[] = [];

beforeEach(() => {
  queryClient.clear();
  sent = [];
  vi.stubGlobal("fetch", async (request: Request) => {
    const { pathname } = new URL(request.url);
    if (request.method !== "GET") sent.push(`${request.method} ${pathname} ${await request.text()}`.trim());
    return new Response(JSON.stringify({ since: "2026-11-23T06:50:00Z", items }), {
      headers: { "Content-Type": "application/json" },
    });
  });
});

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const show = (d: Device) =>
  render(
    <QueryClientProvider client={queryClient}>
      <RetirePanel device={d} />
    </QueryClientProvider>,
  );

test("what retiring undoes is said before anything is done", async () => {
  show(device("kittiwake-1"));
  fireEvent.click(screen.getByRole("button", { name: /Retire kittiwake-1/ }));
  expect(await screen.findByText("Take the apps off")).toBeTruthy();
  expect(sent).toEqual([]);
  fireEvent.click(screen.getByRole("button", { name: "Retire it" }));
  await vi.waitFor(() => expect(sent).toEqual(["POST /api/v1/devices/kittiwake-1/retirement"]));
});

test("what is done says whether it was observed, and only what nobody can see is told", async () => {
  show(device("kittiwake-1", { retiring: true }));
  expect(await screen.findByText(/observed/)).toBeTruthy();
  const told = screen.getAllByRole("button", { name: "I have done that" });
  expect(told).toHaveLength(1);
  fireEvent.click(told[0]!);
  await vi.waitFor(() => expect(sent).toEqual(['POST /api/v1/devices/kittiwake-1/retirement/told {"step":"out"}']));
});

test("it can be called off", async () => {
  show(device("kittiwake-1", { retiring: true }));
  fireEvent.click(screen.getByRole("button", { name: "Call it off" }));
  await vi.waitFor(() => expect(sent).toEqual(["DELETE /api/v1/devices/kittiwake-1/retirement"]));
});
