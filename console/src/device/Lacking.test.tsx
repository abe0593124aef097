import { render, screen } from "@testing-library/react";
import { expect, it } from "vitest";
import { LogPanel } from "./LogPanel";
import { ScreenPanel } from "./ScreenPanel";

it("says what the way to a device does not have, and offers nothing that cannot work", () => {
  const sentence = (what: string) => `${what} is not to be had by the way test.`;
  render(
    <>
      <ScreenPanel handle="heron-2" linked lacks={sentence("The screen")} />
      <LogPanel handle="heron-2" linked asleep={false} lacks={sentence("The log")} />
    </>,
  );
  expect(screen.getByText(sentence("The screen"))).toBeTruthy();
  expect(screen.getByText(sentence("The log"))).toBeTruthy();
  expect(screen.queryByRole("button")).toBeNull();
});
