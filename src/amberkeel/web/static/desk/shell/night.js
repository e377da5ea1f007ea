// Several shots chosen on the board and worked on, one job after the other of each.

import { post, toast } from "./api.js";
import { find } from "./dom.js";
import { counted } from "./words.js";

const board = find("#board");
const ticks = () => [...document.querySelectorAll(".shot .pick")];
const chosen = () => ticks().filter((tick) => tick.checked);

function draw() {
  const count = chosen().length;
  find("#nightcount").textContent = count ? `${counted(count, "shot")} chosen` : "Tick the shots";
  find("#nightgo").disabled = !count;
}

function show(on) {
  board.classList.toggle("choosing", on);
  find("#night").hidden = !on;
  find("#several").classList.toggle("on", on);
  find("#several").setAttribute("aria-pressed", on);
  draw();
}

async function go() {
  const shots = chosen().map((tick) => Number(tick.closest("[data-shot]").dataset.shot));
  try {
    const { count } = await post("/work", { shots, effort: find("#effort").value });
    toast(`${count} shot${count === 1 ? " is" : "s are"} worked on in the background; the page of jobs follows them.`);
    for (const tick of ticks()) tick.checked = false;
    show(false);
  } catch (error) {
    toast(error.message, true);
  }
}

if (find("#several")) {
  find("#several").addEventListener("click", () => show(find("#night").hidden));
  find("#nightend").addEventListener("click", () => show(false));
  find("#nightgo").addEventListener("click", go);
  find("#nightall").addEventListener("click", () => {
    for (const tick of ticks()) tick.checked = !tick.closest(".shot").hidden;
    draw();
  });
  board.addEventListener("change", (event) => event.target.matches(".pick") && draw());
}
