import { QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { queryClient } from "../api/queries";
import { FactsPanel } from "../device/FactsPanel";
import { GateStrip } from "../device/GateStrip";
import { Shelf } from "../rack/Shelf";
import { device } from "../testing/device";
import { ReportButton } from "./ReportButton";
import { UnseenPage } from "./UnseenPage";

let answers: Record<string, [number, unknown]> = {};

beforeEach(() => {
  queryClient.clear();
  answers = {
    "/api/v1/unrecognised": [200, { items: [] }],
    "/api/v1/sheets": [200, { items: [], trouble: [], dir: "/s" }],
  };
  vi.stubGlobal("fetch", async (request: Request) => {
    const [status, body] = answers[new URL(request.url, "http://bench").pathname] ?? [
      404,
      { detail: "Nothing there." },
    ];
    return new Response(JSON.stringify(body), { status, headers: { "Content-Type": "application/json" } });
  });
});

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const show = (page: ReactNode) =>
  render(
    <QueryClientProvider client={queryClient}>
      <MemoryRouter>{page}</MemoryRouter>
    </QueryClientProvider>,
  );

const fact = (more: object) => ({
  key: "device.locked",
  value: false,
  text: "locked: no",
  source: "device",
  at: "2026-11-23T06:52:00Z",
  by: "",
  good: true,
  ...more,
});

test("a device that does not show up begins with a question", async () => {
  answers["/api/v1/devices/unseen/why"] = [
    200,
    {
      device: "unseen",
      gate: "seen",
      state: "unknown",
      text: "",
      remedy: "",
      evidence: [],
      denied: [],
      answers: [],
      causes: [
        {
          id: "off",
          probability: 1,
          text: "It is off.",
          remedy: "",
          who: "hands",
          seconds: 1,
          sight: "",
          done: false,
          because: [],
        },
      ],
      next: {
        kind: "check",
        id: "c",
        who: "hands",
        seconds: 6,
        text: "Does it charge?",
        note: "",
        sight: "",
        answers: [{ id: "yes", text: "It charges" }],
        step: null,
        action: "",
      },
    },
  ];
  show(<UnseenPage />);
  expect(await screen.findByText("Does it charge?")).toBeTruthy();
  expect(screen.getByRole("button", { name: "It charges" })).toBeTruthy();
  expect(screen.getByText("It is off.")).toBeTruthy();
});

test("where the bench cannot be asked, that is said", async () => {
  show(<UnseenPage />);
  expect((await screen.findByRole("alert")).textContent).toContain("Nothing there.");
});

test("facts are asked for when they are wanted, the outdated ones marked", async () => {
  answers["/api/v1/devices/heron-2/facts"] = [
    200,
    { items: [fact({}), fact({ source: "person", by: "ines", good: false })] },
  ];
  answers["/api/v1/devices/heron-2/history"] = [200, { items: [fact({ text: "locked: yes" })] }];
  const { container } = show(<FactsPanel handle="heron-2" />);
  expect(screen.queryByText("What is known now")).toBeNull();
  const details = container.querySelector("details")!;
  details.open = true;
  fireEvent(details, new Event("toggle"));
  expect(await screen.findByText("locked: yes")).toBeTruthy();
  expect(screen.getByText(/confirmed by ines, no longer good/)).toBeTruthy();
});

test("an edit of a sheet that is not active is told with its place", async () => {
  answers["/api/v1/sheets"] = [
    200,
    {
      items: [],
      dir: "/s",
      trouble: [
        {
          file: "/s/slate.yaml",
          line: 3,
          column: 9,
          near: "x",
          text: "there is no fact.x",
          hint: "did you mean fact.y?",
        },
      ],
    },
  ];
  show(<Shelf />);
  expect(await screen.findByText("/s/slate.yaml:3:9")).toBeTruthy();
  expect(screen.getByText("there is no fact.x; did you mean fact.y?")).toBeTruthy();
  expect(screen.getByText("The last valid version is active.")).toBeTruthy();
  expect(screen.getByRole("link", { name: "Find out why it does not show up" }).getAttribute("href")).toBe("/unseen");
});

test("a gate tells what it waits for and when it will shut", () => {
  const { container } = show(
    <GateStrip
      device={device("kestle-1", {
        gates: { seen: "open", driver: "unknown", token: "open" },
        first: "kit",
        waits: { driver: ["mode", "drivers"] },
        endings: [{ gate: "token", at: "2026-12-01T00:00:00Z", soon: true, left_seconds: 10 }],
      })}
    />,
  );
  const items = [...container.querySelectorAll("li")];
  expect(items.map((li) => li.title)[1]).toContain("driver: unknown, waits for mode, drivers.");
  expect(items[2]!.title).toMatch(/^token: open, ends in a minute/);
  expect(container.querySelectorAll(".road-half")).toHaveLength(1);
  expect(items[1]!.querySelector(".road-half")).toBeTruthy();
});

test("a report that cannot be copied is shown to be copied by hand", async () => {
  answers["/api/v1/devices/heron-2/report"] = [200, { text: "heron-2: all of it" }];
  show(<ReportButton handle="heron-2" />);
  fireEvent.click(screen.getByRole("button", { name: "Copy for a colleague" }));
  expect(((await screen.findByRole("textbox", { name: "Report" })) as HTMLTextAreaElement).value).toBe(
    "heron-2: all of it",
  );
  fireEvent.click(screen.getByRole("button", { name: "Close" }));
  expect(screen.queryByRole("textbox")).toBeNull();
});
