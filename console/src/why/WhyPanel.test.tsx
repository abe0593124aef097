import { QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { queryClient } from "../api/queries";
import type { Cause, Fact, Why } from "../api/types";
import { WhyPanel } from "./WhyPanel";

const fact: Fact = {
  id: "usb.link/bus",
  key: "usb.link",
  value: false,
  text: "the device link: no",
  source: "bus",
  at: "2026-11-23T06:52:00Z",
  by: "",
  good: true,
};

const cause = (id: string, probability: number, more: Partial<Cause> = {}): Cause => ({
  id,
  probability,
  text: `It is ${id}.`,
  remedy: "",
  who: "hands",
  seconds: 10,
  sight: "",
  done: false,
  because: [],
  ...more,
});

const why = (more: Partial<Why> = {}): Why => ({
  device: "heron-2",
  app: "",
  gate: "mode",
  state: "shut",
  text: "It does not let computers debug.",
  remedy: "Tap **Batch**.",
  evidence: [fact],
  denied: [],
  causes: [],
  answers: [],
  next: null,
  ...more,
});

let sent: { method: string; path: string; body: unknown }[] = [];

beforeEach(() => {
  queryClient.clear();
  sent = [];
  vi.stubGlobal("fetch", async (request: Request) => {
    const text = await request.text();
    sent.push({
      method: request.method,
      path: new URL(request.url, "http://bench").pathname,
      body: text ? JSON.parse(text) : undefined,
    });
    return new Response(null, { status: 204 });
  });
});

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const show = (w: Why) =>
  render(
    <QueryClientProvider client={queryClient}>
      <WhyPanel why={w} />
    </QueryClientProvider>,
  );

test("evidence has its source and time, and a person's word is marked as told", () => {
  show(why({ evidence: [fact, { ...fact, key: "told.tap", source: "person", by: "ines" }] }));
  expect(screen.getByText(/observed, bus/)).toBeTruthy();
  expect(screen.getByText(/confirmed by ines/)).toBeTruthy();
  expect(screen.getByRole("heading", { level: 2 }).textContent).toContain("Why mode is not open");
});

test("causes stand in order with their shares, the improbable ones folded", () => {
  show(why({ causes: [cause("hidden", 0.7, { done: true }), cause("off", 0.295), cause("odd", 0.005)] }));
  const items = screen.getAllByRole("listitem").map((li) => li.textContent);
  expect(items[0]).toContain("70 %It is hidden. Tried, did not help.");
  expect(items[1]).toContain("30 %It is off.");
  expect(screen.queryByText("It is odd.")).toBeNull();
  fireEvent.click(screen.getByRole("button", { name: "One more, improbable" }));
  expect(screen.getByText("It is odd.")).toBeTruthy();
});

test("a check is answered by one click, and taken back by one", async () => {
  const next: Why["next"] = {
    kind: "check",
    id: "lamp",
    who: "hands",
    seconds: 5,
    text: "Is the lamp lit?",
    note: "",
    sight: "",
    answers: [
      { id: "yes", text: "It is lit" },
      { id: "no", text: "It is dark" },
    ],
    step: null,
    action: "",
  };
  const given = {
    check: "room",
    text: "Is there room?",
    answer: "yes",
    said: "Enough",
    seen: false,
    fact: { ...fact, by: "ines" },
  };
  const seen = { ...given, check: "machine", said: "Nobody", seen: true };
  show(why({ causes: [cause("hidden", 1)], next, answers: [given, seen] }));
  fireEvent.click(screen.getByRole("button", { name: "It is dark" }));
  await vi.waitFor(() =>
    expect(sent[0]).toEqual({
      method: "POST",
      path: "/api/v1/devices/heron-2/answers",
      body: { check: "lamp", answer: "no" },
    }),
  );
  expect(screen.getAllByRole("button", { name: /Take back/ })).toHaveLength(1);
  fireEvent.click(screen.getByRole("button", { name: "Take back: Enough" }));
  await vi.waitFor(() => expect(sent[1]!.path).toBe("/api/v1/devices/heron-2/answers/room"));
  expect(sent[1]!.method).toBe("DELETE");
});

test("of a remedy one says that it was done", async () => {
  show(
    why({
      causes: [cause("hidden", 0.95)],
      next: {
        kind: "remedy",
        id: "hidden",
        who: "hands",
        seconds: 120,
        text: "Tap it.",
        note: "",
        sight: "a page.",
        answers: [],
        step: null,
        action: "",
      },
    }),
  );
  expect(screen.getByText(/What helps: with your hands, about 2 minutes/)).toBeTruthy();
  fireEvent.click(screen.getByRole("button", { name: "Done, and it did not help" }));
  await vi.waitFor(() => expect(sent[0]!.body).toEqual({ cause: "hidden" }));
});

test("where what is seen stands against somebody's word, both are told", () => {
  const told = { ...fact, text: "locked: no", source: "person", by: "ines" };
  show(why({ denied: [{ told, observed: { ...fact, text: "locked: yes", source: "device" } }] }));
  const text = screen.getByRole("alert").textContent;
  expect(text).toContain("What is observed counts.");
  expect(text).toContain("ines said: locked: no");
  expect(text).toContain("device observed: locked: yes");
});
