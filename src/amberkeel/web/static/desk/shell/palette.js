// Every action by name, and by key.
export class Palette {
  constructor(actions) {
    this.actions = actions;
    this.dialog = document.querySelector("#palette");
    this.input = this.dialog.querySelector("input");
    this.list = this.dialog.querySelector("ul");
    this.here = 0;
    this.input.addEventListener("input", () => {
      this.here = 0;
      this.fill();
    });
    this.input.addEventListener("keydown", (e) => this.key(e));
    this.list.addEventListener("click", (e) => {
      const row = e.target.closest("li");
      if (row) this.run(Number(row.dataset.k));
    });
    document.addEventListener("keydown", (e) => this.shortcut(e));
    document.addEventListener("click", (e) => {
      const button = e.target.closest("[data-act]");
      if (button) actions.find((a) => a.id === button.dataset.act)?.run();
    });
    this.keySheet();
  }

  open() {
    this.input.value = "";
    this.here = 0;
    this.fill();
    this.dialog.showModal();
  }

  matches() {
    const words = this.input.value.toLowerCase().split(/\s+/).filter(Boolean);
    return this.actions.filter((a) => words.every((w) => a.name.toLowerCase().includes(w)));
  }

  fill() {
    this.list.replaceChildren(
      ...this.matches().map((a, k) => {
        const row = document.createElement("li");
        row.dataset.k = k;
        row.className = k === this.here ? "here" : "";
        const name = document.createElement("span");
        name.textContent = a.name;
        row.append(name);
        if (a.keys) {
          const key = document.createElement("span");
          key.className = "kbd";
          key.textContent = a.keys;
          row.append(key);
        }
        return row;
      }),
    );
    this.list.children[this.here]?.scrollIntoView({ block: "nearest" });
  }

  key(event) {
    const count = this.matches().length;
    if (event.key === "ArrowDown") this.here = Math.min(this.here + 1, count - 1);
    else if (event.key === "ArrowUp") this.here = Math.max(this.here - 1, 0);
    else if (event.key === "Enter") {
      event.preventDefault();
      this.run(this.here);
      return;
    } else return;
    event.preventDefault();
    this.fill();
  }

  run(k) {
    const action = this.matches()[k];
    this.dialog.close();
    action?.run();
  }

  shortcut(event) {
    if (
      document.querySelector("dialog[open]") ||
      (/^(INPUT|SELECT|TEXTAREA)$/.test(event.target.tagName) &&
        event.target.type !== "checkbox" &&
        event.target.type !== "range")
    )
      return;
    const held = event.ctrlKey || event.metaKey ? "Ctrl " : "";
    const key = event.key === " " ? "Space" : event.key.length === 1 ? event.key.toUpperCase() : event.key;
    // A sign that needs Shift, such as ?, is named without it; a letter may be named with it.
    const names = event.shiftKey
      ? [
          `${held}Shift ${key}`,
          ...(event.key.length > 1 || (/[a-z]/i.test(event.key) && !held) ? [] : [`${held}${key}`]),
        ]
      : [`${held}${key}`];
    const action = this.actions.find((a) => names.includes(a.keys) || names.includes(a.also));
    if (!action) return;
    event.preventDefault();
    action.run();
  }

  keySheet() {
    document.querySelector("#keylist").replaceChildren(
      ...this.actions
        .filter((a) => a.keys)
        .flatMap((a) => {
          const [name, key] = [document.createElement("span"), document.createElement("span")];
          [name.textContent, key.textContent, key.className] = [a.name, a.keys, "kbd"];
          return [name, key];
        }),
    );
  }
}
