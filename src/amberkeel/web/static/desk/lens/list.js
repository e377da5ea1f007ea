// The list of drawn lines and boxes, with how straight each is.
import { element, find } from "../shell/dom.js";
import { boxesOf } from "./boxes.js";
import { LOOKS } from "./lines.js";

const EMPTY =
  "No lines yet. Choose Edge, or a direction, and drag along an edge of the set from end to end. " +
  "Or choose Box and drag its corners onto the corners of something square.";

/** Draw the list; `choose(name, frame)` is called for the line that is pressed. */
export function drawLineList(lens, frame, choose) {
  const box = find("#linelist");
  const names = Object.keys(lens.lines).filter((name) => !lens.lines[name].box);
  const boxes = boxesOf(lens.lines);
  if (!names.length && !boxes.length) return box.replaceChildren(element("p", "label my-1", EMPTY));
  const here = names.filter((name) => lens.lines[name].frame === frame);
  const others = names.filter((name) => lens.lines[name].frame !== frame);
  const head = element("h3", "flex", "Lines");
  head.append(element("span", "ml-auto label", "px off straight, before → after"));
  const row = (name) => lineRow(lens, frame, name, choose);
  const more = others.length ? [element("h3", "", `On other frames (${others.length})`)] : [];
  const rows = [...boxes.map((one) => boxRow(lens, frame, one, choose)), ...here.map(row), ...more, ...others.map(row)];
  return box.replaceChildren(head, ...rows);
}

function lineRow(lens, frame, name, choose) {
  const line = lens.lines[name];
  const report = lens.fit?.lines[name];
  const row = element("button", `linerow${lens.chosen === name ? " on" : ""}${report?.disagrees ? " bad" : ""}`);
  const look = LOOKS[line.axis ?? ""];
  const mark = element("i", "", look.letter || "—");
  mark.style.color = look.tint;
  const figures = report ? `${report.before.toFixed(2)} → ${report.after.toFixed(2)}` : `${line.points.length} points`;
  const where = element("span", "label fig", line.frame === frame ? "" : `${line.frame}`);
  row.append(mark, element("span", "truncate", name), where, element("span", "fig", figures));
  const words = `${line.points.length} points on frame ${line.frame}; distance from straight before and after, px`;
  row.title = report?.disagrees ? "This line disagrees with the others" : words;
  row.addEventListener("click", () => choose(name, line.frame));
  return row;
}

function boxRow(lens, here, [name, count, frame], choose) {
  const own = Object.keys(lens.lines).filter((n) => lens.lines[n].box === name);
  const reports = own.map((n) => lens.fit?.lines[n]).filter(Boolean);
  const bad = reports.some((r) => r.disagrees);
  const row = element("button", `linerow${own.includes(lens.chosen) ? " on" : ""}${bad ? " bad" : ""}`);
  const worst = Math.max(0, ...reports.map((r) => r.after));
  const figures = reports.length ? `${count}/8, ${worst.toFixed(2)}` : `${count}/8 corners`;
  const where = element("span", "label fig", frame === here ? "" : `${frame}`);
  row.append(element("i", "", "▱"), element("span", "truncate", name), where, element("span", "fig", figures));
  row.title = "Corners that were dragged, and the worst of its edges, px from where the box would have it";
  row.addEventListener("click", () => choose(own[0], frame));
  return row;
}
