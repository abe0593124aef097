import { QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { queryClient } from "../api/queries";
import { AppChoice } from "./AppChoice";
import { choose, useChosenApp } from "./chosenApp";

const project = (app: string) => ({ app, dir: "/", name: app, version: "1", families: ["tarn"], trouble: "" });

function Chosen() {
  return <p>chosen: {useChosenApp() || "none"}</p>;
}

async function shown(...apps: string[]) {
  vi.stubGlobal("fetch", async () => new Response(JSON.stringify({ items: apps.map(project) }), { status: 200 }));
  render(
    <QueryClientProvider client={queryClient}>
      <AppChoice />
      <Chosen />
    </QueryClientProvider>,
  );
}

beforeEach(() => {
  queryClient.clear();
  sessionStorage.clear();
});
afterEach(cleanup);

it("takes the only app there is, unless none is chosen", async () => {
  await shown("fellgate/callout");
  await screen.findByText("chosen: fellgate/callout");
  choose("");
  await screen.findByText("chosen: none");
});

it("asks nothing where there is no app", async () => {
  await shown();
  await screen.findByText("chosen: none");
  expect(screen.queryByRole("combobox")).toBeNull();
});

it("chooses none of several for the person, and remembers what was chosen", async () => {
  await shown("fellgate/callout", "fellgate/muster");
  await screen.findByRole("combobox");
  await screen.findByText("chosen: none");
  choose("fellgate/muster");
  await screen.findByText("chosen: fellgate/muster");
  expect(sessionStorage.getItem("app")).toBe("fellgate/muster");
});
