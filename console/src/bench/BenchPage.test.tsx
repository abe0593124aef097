import { QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, within } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { queryClient } from "../api/queries";
import { browserName } from "../parts/browserName";
import { BenchPage } from "./BenchPage";

const at = "2026-11-26T07:00:00Z";
const job = (id: string, more: object) => ({
  id,
  kind: "app.try",
  title: `Try ${id}`,
  device: "heron-1",
  parent: "",
  actor: "owner/ada",
  state: "done",
  phases: [],
  error: null,
  result: null,
  again: true,
  created: at,
  ended: at,
  ...more,
});
const items = (...all: object[]) => [200, { items: all, next: "" }] as [number, unknown];

let answers: Record<string, [number, unknown]> = {};
let asked: string[] = [];

beforeEach(() => {
  queryClient.clear();
  asked = [];
  answers = {
    "/api/v1/bench": [
      200,
      { name: "moor-desk", version: "0.1.0", fingerprint: "SHA256:k", developer: "thumb", now: at, sequence: 1 },
    ],
    "/api/v1/jobs": items(
      job("one", { state: "running", again: false, ended: null }),
      job("two", { state: "failed", error: { text: "It failed.\nAll of it.", remedy: "" } }),
    ),
    "/api/v1/audit": items({ id: 7, at, actor: "browser/ada", operation: "run", subject: "/runs", outcome: 409 }),
    "/api/v1/sessions": items(
      { id: "aaa", agent: "Mozilla/5.0 (Moor; x) Heath/1.0", created: at, ends: at, used: at, this: true },
      { id: "bbb", agent: "curl/8.0", created: at, ends: at, used: at, this: false },
    ),
    "/api/v1/projects": items(),
    "/api/v1/tidy": [
      200,
      {
        rules: {},
        rows: [
          {
            kind: "app files",
            name: "fellgate/callout 2.2",
            count: 1,
            bytes: 3e6,
            why: "older than 30 days",
            since: at,
          },
        ],
        bytes: 3e6,
        files: 9e6,
        records: 4e5,
      },
    ],
    "/api/v1/sheets": [
      200,
      {
        items: [],
        trouble: [{ file: "/s/a.yaml", line: 3, column: 2, near: "x", text: "there is no gate x", hint: "" }],
        dir: "/s",
        next: "",
      },
    ],
  };
  vi.stubGlobal("fetch", async (request: Request) => {
    const url = new URL(request.url);
    asked.push(request.method + " " + url.pathname);
    const [status, body] = answers[url.pathname] ?? [204, undefined];
    return new Response(body === undefined ? null : JSON.stringify(body), {
      status,
      headers: { "Content-Type": "application/json" },
    });
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
        <BenchPage />
      </MemoryRouter>
    </QueryClientProvider>,
  );

test("the page leads with what runs, and that can be stopped, and what failed repeated", async () => {
  show();
  expect((await screen.findByText("Try one", { selector: "h1 b" })).parentElement!.textContent).toBe(
    "Try one is running.",
  );
  const jobs = screen.getByRole("region", { name: "Jobs" });
  expect(within(jobs).getByText("It failed.")).toBeTruthy();
  fireEvent.click(within(jobs).getByRole("button", { name: "Stop Try one" }));
  fireEvent.click(within(jobs).getByRole("button", { name: "Repeat Try two" }));
  await vi.waitFor(() =>
    expect(asked).toEqual(expect.arrayContaining(["POST /api/v1/jobs/one/stop", "POST /api/v1/jobs/two/repeat"])),
  );
});

test("each browser that is signed in can be signed out, this one too", async () => {
  show();
  fireEvent.click(await screen.findByRole("button", { name: "Sign out curl" }));
  fireEvent.click(screen.getByRole("button", { name: "Sign out Heath on Moor" }));
  await vi.waitFor(() =>
    expect(asked).toEqual(expect.arrayContaining(["DELETE /api/v1/sessions/bbb", "POST /api/v1/sign-out"])),
  );
});

test("what is wrong with sheets is said, and who did what", async () => {
  show();
  expect(await screen.findByText("there is no gate x", { exact: false })).toBeTruthy();
  expect((await screen.findByText("browser/ada")).closest("tr")!.textContent).toContain("failed (409)");
});

test("a browser that says nothing has a name all the same", () => {
  expect(browserName("")).toBe("a browser that does not say which");
});

test("what nothing uses any more is told, with why, and goes when the owner says so", async () => {
  (answers["/api/v1/sessions"]![1] as { items: { confirmed?: string }[] }).items[0]!.confirmed = at;
  show();
  const kept = within(await screen.findByRole("region", { name: "What is kept" }));
  expect(await kept.findByText("app files")).toBeTruthy();
  expect(kept.getByText(/older than 30 days/)).toBeTruthy();
  fireEvent.click(await kept.findByRole("button", { name: "Remove it sooner" }));
  fireEvent.click(await kept.findByRole("button", { name: "Remove it now" }));
  await vi.waitFor(() => expect(asked).toContain("POST /api/v1/tidy"));
});
