// The plate stage: what is odd about the plate, which of its frames are used, and where it lies.
import { get } from "../shell/api.js";
import { find } from "../shell/dom.js";

export class PlateStage {
  constructor(desk) {
    this.desk = desk;
    this.actions = [
      { id: "ingest", name: "Make the plate's proxies again", run: () => desk.start("ingest", {}) },
      { id: "plate-range", name: "Plate: use other frames", run: () => this.askRange() },
      { id: "plate-relink", name: "Plate: relink its files", run: () => this.askPlace() },
    ];
    find("#rangebox form").addEventListener("submit", (event) => {
      if (event.submitter.value !== "yes") return;
      desk.send("plate/range", { first: find("#rangefirst").value, last: find("#rangelast").value });
    });
    find("#rangechosen").addEventListener("click", () => this.fillRange(desk.state.range));
    find("#relinkbox form").addEventListener("submit", (event) => {
      if (event.submitter.value !== "yes") return;
      const body = { path: find("#relinkpath").value, anyway: find("#relinkanyway").checked };
      desk.send("plate/relink", body);
    });
  }

  fillRange(range) {
    if (range) [find("#rangefirst").value, find("#rangelast").value] = range;
  }

  askRange() {
    this.fillRange(this.desk.state.range ?? [this.desk.state.first, this.desk.state.last]);
    find("#rangechosen").disabled = !this.desk.state.range;
    find("#rangebox").showModal();
  }

  async askPlace() {
    find("#relinkbox").showModal();
    const { found } = await get(this.desk.at("plate/found.json")).catch(() => ({ found: [] }));
    find("#relinkfound").replaceChildren(
      ...found.map((path) => {
        const option = document.createElement("option");
        option.value = path;
        return option;
      }),
    );
    if (found.length && !find("#relinkpath").value) find("#relinkpath").value = found[0];
    const places = found.length === 1 ? "One place has" : `${found.length} places have`;
    find("#relinksaid").textContent = found.length
      ? `${places} files of that name; the path offers them.`
      : "No files of that name lie under the plate roots; type where they are.";
  }

  settle(server) {
    const list = find("#odd");
    list.hidden = !server.odd.length;
    list.replaceChildren(
      ...server.odd.map((words) => {
        const item = document.createElement("li");
        item.textContent = words;
        return item;
      }),
    );
  }
}
