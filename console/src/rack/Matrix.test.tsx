import { QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, expect, test } from "vitest";
import { queryClient } from "../api/queries";
import { device } from "../testing/device";
import { Matrix } from "./Matrix";

afterEach(cleanup);

const shut = { first: "mode", summary: "blocked" as const, gates: { seen: "open", mode: "shut" } };

const show = () =>
  render(
    <QueryClientProvider client={queryClient}>
      <MemoryRouter>
        <Matrix devices={[device("heron-1"), device("heron-2", shut)]} withApp={false} />
      </MemoryRouter>
    </QueryClientProvider>,
  );

test("a row a device, and every cell says its gate and state", () => {
  show();
  expect(screen.getAllByRole("row")).toHaveLength(3);
  expect(screen.getByLabelText("heron-2, mode: shut, the first that is not open")).toBeTruthy();
  expect(screen.getAllByLabelText(/^heron-[0-9]+, seen: open$/)).toHaveLength(2);
});

test("the arrow keys go through the grid, and one cell at a time takes the tab key", () => {
  const { container } = show();
  const at = () => container.querySelectorAll('[data-at][tabindex="0"]');
  expect(at()).toHaveLength(1);
  const grid = screen.getByRole("grid");
  fireEvent.keyDown(grid, { key: "ArrowDown" });
  fireEvent.keyDown(grid, { key: "ArrowRight" });
  expect(at()).toHaveLength(1);
  expect(at()[0]!.getAttribute("data-at")).toBe("1/1");
  expect(document.activeElement).toBe(at()[0]);
  fireEvent.keyDown(grid, { key: "ArrowDown" });
  expect(at()[0]!.getAttribute("data-at")).toBe("1/1");
});
