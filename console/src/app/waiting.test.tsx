import { QueryClientProvider } from "@tanstack/react-query";
import { render, screen } from "@testing-library/react";
import type { ReactElement } from "react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { queryClient } from "../api/queries";
import { BenchPage } from "../bench/BenchPage";
import { ComputerPage } from "../computer/ComputerPage";
import { EndingsPage } from "../endings/EndingsPage";
import { KeysPage } from "../keys/KeysPage";
import { RackPage } from "../rack/RackPage";

const claims =
  /is empty|is running|is connected|are connected|nothing ends|none yet|is open|nothing is waiting|all devices are ready/i;

const pages: [string, ReactElement][] = [
  ["rack", <RackPage />],
  ["bench", <BenchPage />],
  ["computer", <ComputerPage />],
  ["endings", <EndingsPage />],
  ["keys", <KeysPage />],
];

beforeEach(() => queryClient.clear());

afterEach(() => vi.unstubAllGlobals());

const show = (page: ReactElement) =>
  render(
    <QueryClientProvider client={queryClient}>
      <MemoryRouter>{page}</MemoryRouter>
    </QueryClientProvider>,
  );

test.each(pages)("the page %s claims nothing while the bench has not answered", async (_, page) => {
  vi.stubGlobal("fetch", () => new Promise(() => undefined));
  show(page);
  await new Promise((done) => setTimeout(done, 50));
  expect(document.body.textContent).not.toMatch(claims);
});

test.each(pages)(
  "the page %s says what went wrong, and claims nothing, where the bench cannot answer",
  async (_, page) => {
    const text = "The records cannot be read just now.";
    vi.stubGlobal(
      "fetch",
      async () =>
        new Response(JSON.stringify({ detail: text }), {
          status: 503,
          headers: { "Content-Type": "application/problem+json" },
        }),
    );
    show(page);
    expect((await screen.findAllByText(new RegExp(text))).length).toBeGreaterThan(0);
    expect(document.body.textContent).not.toMatch(claims);
  },
);
