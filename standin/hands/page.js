// The screen is a picture; over each thing on it that can be touched lies a
// button, so that keyboard and screen reader find it too. A touch is sent as the
// way of a finger: what it does is the device's own matter.
const name = document.body.dataset.name;
const screen = document.getElementById("screen");
const touch = document.getElementById("touch");
const cable = document.getElementById("cable");
const card = document.getElementById("card");
const cradle = cable.dataset.form === "round";
let plugged = true;
let path = [];

function post(what, body) {
  return fetch(`held/${name}/${what}`, { method: "POST", body });
}

function send(points) {
  post("touch", JSON.stringify(points));
}

function at(e) {
  const box = touch.getBoundingClientRect();
  const k = screen.width / box.width;
  return [Math.round((e.clientX - box.left) * k), Math.round((e.clientY - box.top) * k)];
}

touch.addEventListener("pointerdown", (e) => {
  path = [at(e)];
  touch.setPointerCapture(e.pointerId);
});
touch.addEventListener("pointermove", (e) => {
  if (path.length > 0 && path.length < 400) path.push(at(e));
});
touch.addEventListener("pointerup", (e) => {
  if (path.length > 0) send([...path, at(e)]);
  path = [];
});
touch.addEventListener("pointercancel", () => {
  path = [];
});

function show(seen) {
  screen.src = `held/${name}/screen.png?rev=${seen.rev}`;
  screen.alt = seen.says;
  const focused = document.activeElement?.dataset?.text;
  touch.replaceChildren(
    ...seen.elements.map((el) => {
      const b = document.createElement("button");
      b.type = "button";
      b.textContent = el.text;
      b.dataset.text = el.text;
      b.title = [el.value ? `${el.text}: ${el.value}` : el.text, el.note].filter(Boolean).join(", ");
      Object.assign(b.style, { left: `${el.x}px`, top: `${el.y}px`, width: `${el.w}px`, height: `${el.h}px` });
      b.addEventListener("click", (e) => {
        if (e.detail === 0) send([[Math.round(el.x + el.w / 2), Math.round(el.y + el.h / 2)]]);
      });
      return b;
    }),
  );
  if (focused) touch.querySelector(`[data-text="${CSS.escape(focused)}"]`)?.focus();
  if (card && seen.asks) card.open = true;
  plugged = seen.plugged;
  cable.textContent = cradle ? (plugged ? "Take it off its cradle" : "Lay it on its cradle") : plugged ? "Pull the cable" : "Plug it in";
}

// Codes of RFC 6143, 7.5.4; Tab, Enter and Space stay the page's own where a
// button has the focus.
const codes = { Backspace: 0xff08, Enter: 0xff0d, Escape: 0xff1b, ArrowLeft: 0xff51, ArrowUp: 0xff52, ArrowRight: 0xff53, ArrowDown: 0xff54 };
document.addEventListener("keydown", (e) => {
  if (e.ctrlKey || e.metaKey || e.altKey) return;
  const onButton = document.activeElement?.tagName === "BUTTON" && (e.key === "Enter" || e.key === " ");
  const code = codes[e.key] ?? (e.key.length === 1 && e.key < "\x7f" ? e.key.charCodeAt(0) : 0);
  if (code && !onButton) post(`press?code=${code}`);
});
document.getElementById("power").addEventListener("click", () => post("press?key=power"));
for (const b of document.querySelectorAll("[data-slide]")) {
  b.addEventListener("click", () => post(`slide?to=${b.dataset.slide}`));
}
cable.addEventListener("click", () => post(`cable?in=${plugged ? "no" : "yes"}`));

// A page that was left may be kept by the browser for the way back; its stream would go
// on holding one of the six connections that a browser has to one address.
let events;
function follow() {
  events = new EventSource(`held/${name}/events`);
  events.onmessage = (e) => show(JSON.parse(e.data));
}
addEventListener("pagehide", () => events.close());
addEventListener("pageshow", (e) => e.persisted && follow());
follow();
