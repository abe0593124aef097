import { QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { queryClient } from "../api/queries";
import { StateFact } from "./StateFact";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

test("a fact is stated by a choice where it has few values, else by writing", async () => {
  const told: string[] = [];
  vi.stubGlobal("fetch", async (request: Request) => {
    if (request.method === "POST") {
      told.push(await request.text());
      return new Response(null, { status: 204 });
    }
    const items = [
      { key: "device.locked", text: "locked", type: "bool", values: [] },
      { key: "air.network", text: "network it is on", type: "text", values: ["same", "other"] },
      { key: "device.language", text: "language of its screens", type: "text", values: [] },
    ];
    return new Response(JSON.stringify({ items, next: "" }), { headers: { "Content-Type": "application/json" } });
  });
  render(
    <QueryClientProvider client={queryClient}>
      <StateFact handle="heron-2" />
    </QueryClientProvider>,
  );
  const state = () => fireEvent.click(screen.getByRole("button", { name: "State it" }));
  await screen.findByRole("form", { name: "State a fact" });
  state();
  await vi.waitFor(() => expect(told).toEqual(['{"key":"device.locked","value":"yes"}']));
  fireEvent.change(screen.getByLabelText("Fact"), { target: { value: "air.network" } });
  fireEvent.change(screen.getByLabelText("Value"), { target: { value: "other" } });
  state();
  await vi.waitFor(() => expect(told).toContain('{"key":"air.network","value":"other"}'));
  fireEvent.change(screen.getByLabelText("Fact"), { target: { value: "device.language" } });
  fireEvent.change(screen.getByLabelText("Value"), { target: { value: "de" } });
  state();
  await vi.waitFor(() => expect(told).toContain('{"key":"device.language","value":"de"}'));
});
