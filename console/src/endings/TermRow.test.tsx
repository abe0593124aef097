import { render, screen } from "@testing-library/react";
import { expect, test } from "vitest";
import type { Term } from "../api/types";
import { scaleAround } from "./scale";
import { TermRow } from "./TermRow";

const now = Date.parse("2026-11-27T06:00:00Z");

const term = (more: Partial<Term>): Term => ({
  id: "a",
  kind: "debug token",
  name: "QFIYNGEF",
  holder: "fellgate/rowan",
  devices: ["kestle-1", "kestle-2"],
  begins: "2026-11-01T00:00:00Z",
  ends: "2027-01-15T00:00:00Z",
  by: "2027-01-10T00:00:00Z",
  state: "good",
  mine: true,
  alone: false,
  stops: "",
  step: "",
  command: "",
  ...more,
});

const show = (t: Term) =>
  render(
    <ul>
      <TermRow term={t} scale={scaleAround(now)} chosen={now + 86_400_000} />
    </ul>,
  );

test("a term says on which devices it is, and when it ends", () => {
  show(term({}));
  expect(screen.getByText("kestle-1, kestle-2")).toBeTruthy();
  expect(screen.getAllByText(/15 January/).length).toBeGreaterThan(0);
});

test("what is renewed automatically, what has ended and what is another's are said", () => {
  show(term({ alone: true }));
  expect(screen.getAllByText(/renewed automatically/).length).toBeGreaterThan(0);
  show(term({ id: "b", state: "ended", mine: false, devices: ["kestle-6"] }));
  expect(screen.getAllByText(/^ended 15 January/).length).toBeGreaterThan(0);
  expect(screen.getByText("not yours; kestle-6")).toBeTruthy();
});

test("an admission that does not end is until withdrawn", () => {
  show(term({ kind: "admission", ends: null, by: null, state: "open", holder: "heron-1", devices: ["heron-1"] }));
  expect(screen.getByText("heron-1")).toBeTruthy();
  expect(screen.getAllByText("until withdrawn").length).toBeGreaterThan(0);
});

test("a scale puts now a little right of its beginning, and keeps what is beyond at its edges", () => {
  const s = scaleAround(now);
  expect(s.at(now)).toBeCloseTo(8.33, 1);
  expect(s.at(now - 1e12)).toBe(0);
  expect(s.at(now + 1e12)).toBe(100);
});
