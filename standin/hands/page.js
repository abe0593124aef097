// The screen is a picture; over each thing on it that can be touched lies a
// button, so that keyboard and screen reader find it too. A touch is sent as a
// point: what it does is the device's own matter.
const name = document.body.dataset.name;
const screen = document.getElementById("screen");
const touch = document.getElementById("touch");
const cable = document.getElementById("cable");
let plugged = true;

function tap(x, y) {
  fetch(`/held/${name}/tap?x=${Math.round(x)}&y=${Math.round(y)}`, { method: "POST" });
}

touch.addEventListener("click", (e) => {
  if (e.target !== touch && e.detail === 0) {
    return; // by keyboard: the button's own listener
  }
  const box = touch.getBoundingClientRect();
  tap(e.clientX - box.left, e.clientY - box.top);
});

function show(seen) {
  screen.src = `/held/${name}/screen.png?rev=${seen.rev}`;
  const focused = document.activeElement?.dataset?.text;
  touch.replaceChildren(
    ...seen.elements.map((el) => {
      const b = document.createElement("button");
      b.type = "button";
      b.textContent = el.text;
      b.dataset.text = el.text;
      b.title = el.value ? `${el.text}: ${el.value}` : el.text;
      Object.assign(b.style, { left: `${el.x}px`, top: `${el.y}px`, width: `${el.w}px`, height: `${el.h}px` });
      b.addEventListener("click", (e) => {
        if (e.detail === 0) tap(el.x + el.w / 2, el.y + el.h / 2);
      });
      return b;
    }),
  );
  if (focused) touch.querySelector(`[data-text="${CSS.escape(focused)}"]`)?.focus();
  plugged = seen.plugged;
  cable.textContent = plugged ? "Pull the cable" : "Plug it in";
}

cable.addEventListener("click", () => {
  fetch(`/held/${name}/cable?in=${plugged ? "no" : "yes"}`, { method: "POST" });
});

new EventSource(`/held/${name}/events`).onmessage = (e) => show(JSON.parse(e.data));
