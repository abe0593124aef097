import { cleanup, render } from "@testing-library/react";
import { afterEach, expect, test } from "vitest";
import { Emphasis } from "./Emphasis";
import { Gate } from "./Gate";
import { ProblemText } from "./ProblemText";
import { Problem } from "../api/queries";

afterEach(cleanup);

const shape = (state: string, first = false) => render(<Gate state={state} first={first} />).container.innerHTML;

test("each state has a shape of its own, whatever its colour", () => {
  const states = ["open", "shut", "waiting", "unknown", "not needed"];
  const paths = states.map((s) =>
    shape(s)
      .match(/ d="[^"]+"/g)!
      .join(),
  );
  expect(new Set(paths).size).toBe(states.length);
});

test("only the first gate that is not open has the lamp's tile", () => {
  expect(shape("shut")).not.toContain("accent");
  expect(shape("shut", true)).toContain("fill-accent");
  expect(shape("waiting", true)).toContain("stroke-accent");
});

test("a sheet's text is set off and never markup", () => {
  const { container } = render(<Emphasis text="Tap **Batch** *six* times <b>now</b>" />);
  expect(container.querySelectorAll("b")).toHaveLength(1);
  expect(container.querySelector("b")!.textContent).toBe("Batch");
  expect(container.textContent).toBe("Tap Batch six times <b>now</b>");
});

test("a problem says what to do now", () => {
  const { getByRole } = render(<ProblemText error={new Problem(409, "It is busy.", "Wait.")} />);
  expect(getByRole("alert").textContent).toBe("It is busy. Wait.");
});
