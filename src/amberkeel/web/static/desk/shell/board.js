// The board: which shots are shown, in what order and how, and what can be done with each.
import { post, toast } from "./api.js";
import { find } from "./dom.js";
import "./night.js";

const KEPT = "keel-board";
const board = find("#board");
const shots = [...document.querySelectorAll(".shot")];
const productions = [...document.querySelectorAll(".production")];
const chosen = { show: "", order: "name", look: "pictures", ...JSON.parse(localStorage.getItem(KEPT) ?? "{}") };
const ORDERS = {
  name: (a, b) => a.dataset.name.localeCompare(b.dataset.name, undefined, { numeric: true }),
  changed: (a, b) => b.dataset.changed - a.dataset.changed,
  check: (a, b) => b.dataset.check - a.dataset.check,
  frames: (a, b) => b.dataset.frames - a.dataset.frames,
};

const states = (shot) => shot.dataset.states.split(" ");

/** Whether a shot is among those asked for; archived ones are shown where they are asked for only. */
function isShown(shot, show, words) {
  const own = states(shot);
  if (own.includes("archived") !== (show === "archived")) return false;
  if (show && !own.includes(show)) return false;
  const text = `${shot.dataset.name} ${shot.dataset.note}`.toLowerCase();
  return words.every((word) => text.includes(word));
}

function draw() {
  const words = (find("#seek")?.value ?? "").toLowerCase().split(/\s+/).filter(Boolean);
  board.dataset.look = chosen.look;
  for (const shot of shots) shot.hidden = !isShown(shot, chosen.show, words);
  for (const production of productions) {
    const own = shots.filter((shot) => production.contains(shot));
    const here = own.some((shot) => !shot.hidden);
    const isArchived = production.dataset.archived === "yes";
    production.hidden = own.length ? !here : Boolean(chosen.show || words.length) || isArchived;
    const list = production.querySelector(".shots");
    list?.append(...own.sort(ORDERS[chosen.order]));
  }
  for (const button of document.querySelectorAll("[data-show]")) {
    button.classList.toggle("on", button.dataset.show === chosen.show);
    button.setAttribute("aria-pressed", button.dataset.show === chosen.show);
    const count = shots.filter((shot) => isShown(shot, button.dataset.show, words)).length;
    button.querySelector("[data-count]").textContent = count;
  }
  for (const button of document.querySelectorAll("button[data-look]")) {
    button.classList.toggle("on", button.dataset.look === chosen.look);
  }
  find("#nothing").hidden = !productions.length || productions.some((production) => !production.hidden);
  if (find("#order")) find("#order").value = chosen.order;
}

function choose(patch) {
  Object.assign(chosen, patch);
  localStorage.setItem(KEPT, JSON.stringify(chosen));
  draw();
}

// What can be done with a shot or a production: each with the parts of the dialog that it asks for.
const SHOT = [
  { id: "name", words: "Rename …", parts: ["name", "note"], doing: "Rename" },
  {
    id: "duplicate",
    words: "Duplicate …",
    parts: ["name"],
    doing: "Duplicate",
    help: "Plate, tracks, masks, lens and constraints go along; attempts and history stay.",
  },
  { id: "move", words: "Move …", parts: ["production"], doing: "Move" },
  { id: "archive", words: (row) => (states(row).includes("archived") ? "Take up again" : "Archive") },
  {
    id: "delete",
    words: "Delete …",
    parts: [],
    doing: "Delete",
    help: "It is kept for 30 days and can be restored on the page of storage until then.",
  },
];
const PRODUCTION = [
  { ...SHOT[0] },
  { ...SHOT[1], help: "All its shots are duplicated, without their attempts and history." },
  { id: "archive", words: (row) => (row.dataset.archived ? "Take up again" : "Archive") },
  { ...SHOT[4], help: "With all its shots. It is kept for 30 days and can be restored on the page of storage." },
];

function openMenu(button) {
  const kind = button.dataset.menu;
  const row = button.closest(`[data-${kind}]`);
  const menu = find("#menu");
  menu.replaceChildren(
    ...(kind === "shot" ? SHOT : PRODUCTION).map((one) => {
      const item = document.createElement("button");
      item.role = "menuitem";
      item.textContent = typeof one.words === "function" ? one.words(row) : one.words;
      item.addEventListener("click", () => {
        menu.hidden = true;
        if (one.parts) ask(kind, row, one);
        else act(kind, row, one, { on: item.textContent === "Archive" });
      });
      return item;
    }),
  );
  menu.hidden = false;
  const at = button.getBoundingClientRect();
  menu.style.left = `${Math.min(at.right - menu.offsetWidth, window.innerWidth - menu.offsetWidth - 8)}px`;
  const below = at.bottom + menu.offsetHeight + 8 < window.innerHeight;
  menu.style.top = `${below ? at.bottom + 4 : at.top - menu.offsetHeight - 4}px`;
  menu.firstElementChild.focus();
}

function ask(kind, row, one) {
  const dialog = find("#ordering");
  const { name, note } = row.dataset;
  dialog.querySelector("h2").textContent = `${one.doing} ${name}`;
  dialog.querySelector("p.label").textContent = one.help ?? "";
  for (const part of dialog.querySelectorAll("[data-part]")) part.hidden = !one.parts.includes(part.dataset.part);
  find("#newname").value = one.id === "duplicate" ? `${name} copy`.slice(0, 80) : name;
  find("#newnote").value = note;
  find("#doit").textContent = one.doing;
  find("#refusal").hidden = true;
  dialog.onsubmit = (event) => {
    if (event.submitter?.value !== "yes") return;
    event.preventDefault();
    const body = {
      name: find("#newname").value,
      production: Number(find("#newproduction").value),
      ...(one.parts.includes("note") ? { note: find("#newnote").value } : {}),
    };
    act(kind, row, one, body).catch(() => {});
  };
  dialog.showModal();
  if (one.parts.includes("name")) find("#newname").select();
}

/** Do it on the server; the board is loaded again, with what is searched and chosen as it was. */
async function act(kind, row, one, body) {
  try {
    await post(`/${kind}s/${row.dataset[kind]}/${one.id}`, body);
    sessionStorage.setItem(KEPT, find("#seek")?.value ?? "");
    location.reload();
  } catch (error) {
    if (!find("#ordering").open) toast(error.message, true);
    find("#refusal").textContent = error.message;
    find("#refusal").hidden = false;
  }
}

document.addEventListener("click", (event) => {
  const menu = find("#menu");
  const button = event.target.closest("[data-menu], [data-show], button[data-look], #showall");
  if (!menu.contains(event.target)) menu.hidden = true;
  if (!button) return;
  if (button.dataset.menu) openMenu(button);
  else if (button.dataset.look) choose({ look: button.dataset.look });
  else choose({ show: button.dataset.show ?? "" });
});
document.addEventListener("keydown", (event) => {
  const isTyping = /INPUT|SELECT/.test(document.activeElement.tagName);
  if (event.key === "Escape") find("#menu").hidden = true;
  if (event.key === "/" && !isTyping && find("#seek")) {
    event.preventDefault();
    find("#seek").focus();
  }
  const items = [...find("#menu").children];
  const at = items.indexOf(document.activeElement);
  if (at >= 0 && /^Arrow(Down|Up)$/.test(event.key)) {
    event.preventDefault();
    items.at((at + (event.key === "ArrowDown" ? 1 : -1)) % items.length).focus();
  }
});
find("#seek")?.addEventListener("input", draw);
find("#order")?.addEventListener("change", (event) => choose({ order: event.target.value }));
if (find("#seek")) find("#seek").value = sessionStorage.getItem(KEPT) ?? "";
sessionStorage.removeItem(KEPT);
draw();
document.body.dataset.ready = "yes";
