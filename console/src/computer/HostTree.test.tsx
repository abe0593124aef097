import { cleanup, render, screen, within } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, expect, test } from "vitest";
import type { TreeRow } from "../api/types";
import { HostTree } from "./HostTree";
import { faultOf, speedText } from "./faults";
import { wiresOf } from "./wires";

afterEach(cleanup);

const row = (more: Partial<TreeRow>): TreeRow => ({
  depth: 0,
  kind: "device",
  id: "1-1",
  port: 0,
  ports: 0,
  name: "",
  usb: "",
  kbit_per_s: 0,
  milliamps: 0,
  driver: "",
  holder: "",
  device: "",
  gate: "",
  trouble: "",
  worst: false,
  ...more,
});

const rows = [
  row({ kind: "controller", name: "Hub A", ports: 4, kbit_per_s: 5_000_000 }),
  row({ depth: 1, device: "ivory-2", name: "Osier Mica", port: 1, gate: "seen", trouble: "Held by pit.", worst: true }),
  row({ depth: 2, kind: "interface", id: "0", name: "Pictures", usb: "06/01/01", driver: "system" }),
  row({ depth: 1, name: "Kettle", usb: "f3e9:0001", port: 3, trouble: "No prep sheet fits it." }),
];

const show = (more: object) =>
  render(
    <MemoryRouter>
      <HostTree tree={{ host: "loft", own: false, known: true, trouble: "", rows, ...more }} />
    </MemoryRouter>,
  );

test("a row says what it is, and what is wrong takes the place of its driver", () => {
  show({});
  const items = screen.getAllByRole("listitem");
  expect(items).toHaveLength(4);
  expect(items[0]!.textContent).toContain("5 Gbit/s");
  expect(items[1]!.textContent).toContain("seen is shut: Held by pit.");
  expect(within(items[1]!).getByRole("link", { name: "Look at ivory-2" }).getAttribute("href")).toBe(
    "/devices/ivory-2",
  );
  expect(items[2]!.textContent).toContain("system");
  expect(within(items[3]!).queryByRole("link")).toBeNull();
});

test("a host of which nothing is known says why", () => {
  show({ own: true, known: false, trouble: "This computer shows no USB.", rows: [] });
  expect(screen.getByText("This computer shows no USB.")).toBeTruthy();
  expect(screen.queryByText("Nothing is connected.")).toBeNull();
  cleanup();
  show({ rows: [] });
  expect(screen.getByText("Nothing is connected.")).toBeTruthy();
});

test("a wire goes on below a row where something follows at its depth", () => {
  expect(wiresOf(rows)).toEqual([[false], [false, true], [false, true, false], [false, false]]);
});

test("speeds and faults are words for people", () => {
  expect([speedText(0), speedText(1500), speedText(480_000), speedText(10_000_000)]).toEqual([
    "",
    "1.5 Mbit/s",
    "480 Mbit/s",
    "10 Gbit/s",
  ]);
  expect(faultOf(row({ device: "ivory-3", trouble: "ivory-3 says that it is locked." }))).toBe(
    "says that it is locked.",
  );
});
