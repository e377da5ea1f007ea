// The shot's history as a list: who did what and when, and back to any step.
import { get, post, toast } from "./api.js";
import { find } from "./dom.js";

const time = new Intl.DateTimeFormat(undefined, {
  day: "2-digit",
  month: "short",
  hour: "2-digit",
  minute: "2-digit",
  hour12: false,
});

function row(step, here, go) {
  const item = document.createElement("li");
  const button = document.createElement("button");
  item.className = step.undone ? "undone" : step.id === here ? "here" : "";
  const [what, who, when] = ["b", "span", "span"].map((tag) => document.createElement(tag));
  what.textContent = step.label;
  who.textContent = step.who ?? "";
  when.textContent = step.at ? time.format(new Date(step.at)) : "";
  when.className = "fig";
  button.append(what, who, when);
  button.title = step.undone ? "Do again up to here" : "Back to here";
  button.disabled = step.id === here;
  button.addEventListener("click", () => go(step.id));
  item.append(button);
  return item;
}

export class History {
  constructor(desk) {
    this.desk = desk;
    this.dialog = find("#history");
  }

  async open() {
    await this.fill().catch((e) => toast(e.message, true));
    if (!this.dialog.open) this.dialog.showModal();
  }

  async fill() {
    const { steps } = await get(this.desk.at("history.json"));
    const here = steps.find((step) => !step.undone)?.id ?? 0;
    const start = { id: 0, label: "The plate as it came in", undone: false };
    find("#steps").replaceChildren(...[...steps, start].map((step) => row(step, here, (id) => this.go(id))));
  }

  go(edit) {
    return this.desk.act(async () => {
      const server = await post(this.desk.at("history"), { edit, revision: this.desk.revision });
      await this.desk.take(server);
      toast(`Went ${server.said}.`);
      await this.fill();
    });
  }
}
