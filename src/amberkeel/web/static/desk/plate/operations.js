// The tracking copy: its operations as a list of sliders, and the copy shown beside the plate as it is made.
import { element } from "../shell/dom.js";

/** By name, its figures: [name, least, most, start, step], as the server has them. */
export const OPERATIONS = Object.fromEntries(JSON.parse(document.querySelector("#operations")?.textContent ?? "[]"));

/** Draw the stack; `change(stack, settled)` is told every change, settled when a slider is let go. */
export function drawStack(stack, change) {
  const box = document.querySelector("#stack");
  if (!stack.length)
    return box.replaceChildren(element("p", "label my-1", "No operation yet: the copy is the plate's luma."));
  return box.replaceChildren(...stack.map((one, k) => makeOperation(stack, one, k, change)));
}

function makeOperation(stack, one, k, change) {
  const card = element("div", `operation${one.on ? "" : " off"}`);
  const head = element("header");
  const tick = element("input");
  tick.type = "checkbox";
  tick.checked = one.on;
  tick.title = "On or off";
  tick.addEventListener("change", () =>
    change(
      stack.map((o, j) => (j === k ? { ...o, on: tick.checked } : o)),
      true,
    ),
  );
  const up = element("button", "", "↑");
  up.title = "Earlier";
  up.addEventListener(
    "click",
    () => k && change([...stack.slice(0, k - 1), one, stack[k - 1], ...stack.slice(k + 1)], true),
  );
  const away = element("button", "", "×");
  away.title = "Remove";
  away.addEventListener("click", () =>
    change(
      stack.filter((_, j) => j !== k),
      true,
    ),
  );
  head.append(tick, element("b", "", one.name), up, away);
  card.append(
    head,
    ...OPERATIONS[one.name].map(([name, low, high, start, step]) => {
      const row = element("label");
      const range = element("input");
      Object.assign(range, { type: "range", min: low, max: high, step, value: one.figures[name] ?? start });
      const figure = element("span", "fig", range.value);
      range.addEventListener("input", () => {
        figure.textContent = range.value;
        one.figures[name] = Number(range.value);
        change(stack, false);
      });
      range.addEventListener("change", () => change(stack, true));
      row.append(element("span", "", name), range, figure);
      return row;
    }),
  );
  return card;
}
