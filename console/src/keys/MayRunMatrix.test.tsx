import { fireEvent, render, screen } from "@testing-library/react";
import { expect, test, vi } from "vitest";
import type { MayRun } from "../api/types";
import { cellOf, stoppedIn } from "./chosenCell";
import { MayRunMatrix } from "./MayRunMatrix";
import { StageRoad } from "./StageRoad";

type Cell = MayRun["apps"][number]["cells"][number];
const cell = (device: string, state: Cell["state"], more: Partial<Cell> = {}): Cell => ({
  device,
  state,
  gate: state === "not needed" ? "" : "token",
  unfit: false,
  ends: null,
  ...more,
});
const apps: MayRun["apps"] = [
  {
    app: "fellgate/callout",
    cells: [
      cell("heron-1", "not needed"),
      cell("dunlin-1", "shut", { unfit: true, gate: "" }),
      cell("kestle-1", "open", { ends: "2026-12-01T00:00:00Z" }),
      cell("kestle-2", "shut"),
      cell("kestle-3", "unknown"),
    ],
  },
];

test("each cell says what it is, and is chosen by a press", () => {
  const choose = vi.fn();
  render(<MayRunMatrix apps={apps} chosen={cellOf(apps, undefined)} choose={choose} />);
  screen.getByRole("button", { name: "fellgate/callout on heron-1: needs nothing" });
  screen.getByRole("button", { name: "fellgate/callout on dunlin-1: not made for it" });
  screen.getByRole("button", { name: /on kestle-1: may run until/ });
  screen.getByRole("button", { name: "fellgate/callout on kestle-3: not known" });
  const stopped = screen.getByRole("button", { name: "fellgate/callout on kestle-2: may not run, token" });
  expect(stopped.getAttribute("aria-pressed")).toBe("true");
  fireEvent.click(screen.getByRole("button", { name: /on kestle-3/ }));
  expect(choose).toHaveBeenCalledWith({ app: "fellgate/callout", device: "kestle-3" });
  expect(screen.getAllByRole("columnheader", { name: "kestle" })).toHaveLength(1);
});

test("what was chosen stays while it is there, else the first that is stopped", () => {
  expect(cellOf(apps, { app: "fellgate/callout", device: "heron-1" })?.device).toBe("heron-1");
  expect(cellOf(apps, { app: "fellgate/callout", device: "gone-1" })?.device).toBe("kestle-2");
  expect(stoppedIn([{ app: "a/b", cells: [cell("heron-1", "open")] }])).toBeUndefined();
  expect(cellOf([], undefined)).toBeUndefined();
});

test("the first stage that stops is lit, one that is not known is not", () => {
  const stage = (name: string, state: MayRun["stages"][number]["state"]) => ({
    name,
    state,
    value: "v",
    note: "n",
    soon: name === "identity",
  });
  const { container } = render(
    <StageRoad stages={[stage("identity", "open"), stage("app id", "unknown"), stage("register", "shut")]} />,
  );
  const lit = [...container.querySelectorAll("li")].map((li) => li.querySelector("rect") !== null);
  expect(lit).toEqual([false, false, true]);
  screen.getByText("ends soon");
});
