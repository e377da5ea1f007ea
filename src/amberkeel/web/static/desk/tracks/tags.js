// Fiducial tags: looking for them, what was found, and a scale from a printed side.
import { toast } from "../shell/api.js";
import { element, find } from "../shell/dom.js";

export class TagsBench {
  constructor(desk) {
    this.desk = desk;
    const asked = () => ({
      family: find("#family").value,
      size_mm: find("#tagsize").value,
      corners: find("#tagcorners").checked,
    });
    this.actions = [{ id: "tags", name: "Tracks: find tags", run: () => desk.start("tags", asked()) }];
  }

  draw(keys) {
    const { server } = this.desk.state;
    if (!keys.has("server") || !server) return;
    const box = find("#tagreport");
    const report = server.tags;
    if (!report?.found) {
      const words = "A tag keeps its name, such as 36h11-0007, on every frame and in every shot.";
      return box.replaceChildren(element("p", "label", words));
    }
    if (!report.found.length) {
      const words = `No ${report.family} tag was found. Is it the right family? Tags under 20 px are hard to read.`;
      return box.replaceChildren(element("p", "say", words));
    }
    const rows = report.found.map(tagRow);
    if (report.size_mm) {
      const button = element("button", "button w-full mt-1", `Scale from a tag of ${report.size_mm} mm`);
      button.addEventListener("click", () => this.scaleFrom(report));
      rows.push(button);
    }
    return box.replaceChildren(...rows);
  }

  /** The printed side of the largest tag with corners is a known distance. */
  scaleFrom(report) {
    const { tracks } = this.desk.state;
    const ordered = [...report.found].sort((a, b) => b.sides[1] - a.sides[1]);
    for (const tag of ordered) {
      const pair = [1, 2].map((k) => tracks.ids[tracks.names.indexOf(`${tag.name}.${k}`)]);
      if (!pair.every(Boolean)) continue;
      return this.desk.send("datum", { what: "distance", tracks: pair, distance: String(report.size_mm), unit: "mm" });
    }
    return toast("No tag is large enough to have corners; scale from two tracks instead.", true);
  }
}

function tagRow(tag) {
  const row = element("div", "tagrow");
  const sides = `${tag.sides[0].toFixed(0)}-${tag.sides[2].toFixed(0)} px`;
  row.append(
    element("b", "fig", tag.name),
    element("span", "fig label", `${tag.frames.length} fr`),
    element("span", "fig", sides),
  );
  for (const warning of tag.warnings) row.append(element("small", "", warning));
  return row;
}
