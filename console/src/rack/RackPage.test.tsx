import { QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { queryClient } from "../api/queries";
import { SignIn } from "../app/SignIn";
import { device, step } from "../testing/device";
import { RackPage } from "./RackPage";

const waiting = device("heron-2", {
  summary: "blocked",
  gates: { seen: "open", mode: "shut" },
  first: "mode",
  next: step({ title: "Tap **Batch** six times" }),
});

let answers: Record<string, [number, unknown]> = {};
let asked: string[] = [];

beforeEach(() => {
  queryClient.clear();
  asked = [];
  answers = {
    "/api/v1/devices": [200, { items: [device("heron-1", {}), waiting] }],
    "/api/v1/projects": [
      200,
      { items: [{ app: "fellgate/callout", families: ["tarn"], name: "Callout", version: "2.3", dir: "/d" }] },
    ],
    "/api/v1/unrecognised": [200, { items: [] }],
  };
  vi.stubGlobal("fetch", async (request: Request) => {
    const url = new URL(request.url);
    asked.push(url.pathname + url.search + (request.method === "POST" ? " " + (await request.text()) : ""));
    const [status, body] = answers[url.pathname] ?? [404, { detail: "There is nothing at this address." }];
    return new Response(JSON.stringify(body), { status, headers: { "Content-Type": "application/json" } });
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
        <RackPage />
      </MemoryRouter>
    </QueryClientProvider>,
  );

test("one sentence says what is next, and the counts prove it", async () => {
  show();
  expect((await screen.findByRole("heading", { level: 1, name: /heron-2/ })).textContent).toBe(
    "heron-2 waits for you: tap Batch six times. Go on with heron-2",
  );
  expect(screen.getByText("1 ready, 1 blocked")).toBeTruthy();
  for (const link of screen.getAllByRole("link", { name: /^Go on ?with heron-2$/ }))
    expect(link.getAttribute("href")).toBe("/devices/heron-2");
});

test("words narrow the rack, and say so when they leave nothing", async () => {
  show();
  await screen.findByText("1 ready, 1 blocked");
  const words = screen.getByLabelText("Filter devices");
  fireEvent.change(words, { target: { value: "blocked mode" } });
  expect(screen.getAllByRole("row")).toHaveLength(2);
  fireEvent.change(words, { target: { value: "kestle" } });
  expect(screen.getByText(/No device has all of these words/)).toBeTruthy();
});

test("an expression behind = is put to the bench, and its mistake is shown", async () => {
  show();
  await screen.findByText("1 ready, 1 blocked");
  const words = screen.getByLabelText("Filter devices");
  fireEvent.change(words, { target: { value: '= gate.mode == "shut"' } });
  await vi.waitFor(() => expect(asked).toContain("/api/v1/devices?where=" + encodeURIComponent('gate.mode == "shut"')));
  queryClient.clear();
  answers["/api/v1/devices"] = [
    422,
    { detail: "The expression in where is invalid.", errors: [{ message: "there is no gate.mood" }] },
  ];
  fireEvent.change(words, { target: { value: '= gate.mood == "shut"' } });
  expect((await screen.findByRole("alert")).textContent).toContain("there is no gate.mood.");
});

test("the gates of the only app are shown, until none is chosen", async () => {
  show();
  await vi.waitFor(() => expect(asked).toContain("/api/v1/devices?app=fellgate%2Fcallout"));
  fireEvent.change(await screen.findByLabelText("For the app"), { target: { value: "" } });
  expect(sessionStorage.getItem("app")).toBe("");
  expect(screen.queryByText("tried")).toBeNull();
  sessionStorage.clear();
});

test("an empty rack teaches what goes there", async () => {
  answers["/api/v1/devices"] = [200, { items: [] }];
  answers["/api/v1/hosts"] = [200, { items: [] }];
  show();
  expect(await screen.findByText(/earlybench host add NAME/)).toBeTruthy();
  expect(screen.getByText(/earlybench demo/)).toBeTruthy();
  expect(screen.getByRole("link", { name: "Find out why" }).getAttribute("href")).toBe("/unseen");
});

test("all ready is said in a word", async () => {
  answers["/api/v1/devices"] = [200, { items: [device("heron-1", {})] }];
  show();
  expect(await screen.findByText("All devices are ready.")).toBeTruthy();
});

test("what no sheet fits stands on the shelf, as text", async () => {
  answers["/api/v1/unrecognised"] = [
    200,
    {
      items: [
        { name: "unknown-1", usb: "f3e1:0102", host: "attic", port: "port 2", interfaces: ["ff/00/00 <b>slate</b>"] },
      ],
    },
  ];
  show();
  expect(await screen.findByText("f3e1:0102")).toBeTruthy();
  expect(screen.getByText(/<b>slate<\/b>/)).toBeTruthy();
});

test("an error of the bench is shown with what to do", async () => {
  answers["/api/v1/devices"] = [500, { detail: "The records cannot be read.", remedy: "Look at the disk." }];
  show();
  expect((await screen.findByRole("alert")).textContent).toBe("The records cannot be read. Look at the disk.");
});

test("a browser signs in with a whole address or its secret, and a used one is refused", async () => {
  answers["/api/v1/sign-in"] = [403, { detail: "This sign-in address was used already, or has ended." }];
  render(
    <QueryClientProvider client={queryClient}>
      <SignIn />
    </QueryClientProvider>,
  );
  fireEvent.change(screen.getByLabelText("Or paste that address here"), {
    target: { value: " http://127.0.0.1:7420/#sign-in=SECRET " },
  });
  fireEvent.click(screen.getByRole("button", { name: "Sign in" }));
  expect((await screen.findByRole("alert")).textContent).toContain("was used already");
  expect(asked).toEqual(['/api/v1/sign-in {"secret":"SECRET"}']);
});

test("while the bench has not answered, nothing is said of the rack", async () => {
  answers["/api/v1/devices"] = [503, { detail: "The records cannot be read just now." }];
  show();
  await screen.findByText(/cannot be read just now/);
  expect(screen.queryByText("The rack is empty.")).toBeNull();
});
