// What the pinned solve tells of its lens: values with sigmas, what held-out tracks say, and what goes together.
import { element } from "../shell/dom.js";

const NAMES = { focal: "f", depth: "depth" };
const short = (name) => NAMES[name] ?? name;

/** Fill a box from an attempt's document; `mm` is a pixel's width on the sensor, `keepLens` makes a profile of it. */
export function drawLensReport(box, document, mm, keepLens) {
  const report = document?.lens_report;
  box.replaceChildren();
  if (!report?.values?.length) return;
  const details = element("details", "my-2");
  details.open = box.dataset.open === "yes";
  details.addEventListener("toggle", () => {
    box.dataset.open = details.open ? "yes" : "no";
  });
  const loose = report.values.filter((v) => v.free && !v.determined).length;
  details.append(
    element(
      "summary",
      "",
      loose ? `Lens: ${loose} value${loose > 1 ? "s" : ""} not told` : "Lens: what the shot tells",
    ),
  );
  details.append(values(report, mm), heldOut(report.held_out ?? []));
  if (report.names.length > 1) details.append(together(report));
  const keep = element("button", "button w-full mt-2", "Keep this lens as a profile");
  keep.title = "For this shot and the others of the production";
  keep.addEventListener("click", keepLens);
  details.append(keep);
  box.append(details);
}

function values(report, mm) {
  const table = element("div", "lensvalues");
  for (const v of report.values) {
    const digits = v.name.startsWith("c") ? 1 : 4;
    const text =
      v.name === "focal"
        ? `${(v.value * mm).toFixed(2)} ±${(v.sigma * mm).toFixed(2)} mm`
        : `${v.value.toFixed(digits)}${v.free ? ` ±${v.sigma.toFixed(digits)}` : ""}${digits === 1 ? " px" : ""}`;
    const word = !v.free ? "held" : v.determined ? "told" : "not told";
    table.append(
      element("span", "label", short(v.name)),
      element("span", "fig", text),
      element("span", `answer${word === "told" ? " fine" : word === "not told" ? " bad" : ""}`, word),
    );
  }
  return table;
}

function heldOut(trials) {
  const part = element("div", "");
  if (!trials.length) return part;
  part.append(element("h3", "", "On tracks held out"));
  const table = element("div", "lensvalues");
  for (const t of trials) {
    const word = t.determined ? "told" : t.conclusive ? "not told" : "too few to say";
    table.append(
      element("span", "label", `${short(t.name)} ${t.words}`),
      element("span", "fig", `${t.before_px.toFixed(3)} → ${t.after_px.toFixed(3)} px`),
      element("span", `answer${t.determined ? " fine" : t.conclusive ? " bad" : ""}`, word),
    );
  }
  table.title = "All else is adjusted again to half of the tracks; the other half and the check tracks judge";
  part.append(table);
  return part;
}

/** Correlations below the diagonal; a strong one is framed. */
function together(report) {
  const part = element("div", "");
  part.append(element("h3", "", "What goes together"));
  const grid = element("div", "correlations");
  const last = report.names.length - 1;
  grid.style.gridTemplateColumns = `auto repeat(${last}, 1fr)`;
  for (let i = 1; i <= last; i += 1) {
    grid.append(element("span", "label", short(report.names[i])));
    for (let j = 0; j < last; j += 1) {
      const r = report.correlation[i][j];
      const cell = element(
        "span",
        `fig${j < i && Math.abs(r) > 0.9 ? " strong" : ""}`,
        j < i ? r.toFixed(2).replace("-", "−") : "",
      );
      if (j < i)
        cell.style.background = `color-mix(in srgb, var(--color-amber) ${Math.round(45 * r * r)}%, var(--color-panel))`;
      grid.append(cell);
    }
  }
  grid.append(element("span", ""));
  for (let j = 0; j < last; j += 1) grid.append(element("span", "label", short(report.names[j])));
  grid.title =
    "Correlations: near 1 or −1, the shot trades one for the other. " +
    "Depth is the distance of the set in travels of the camera.";
  part.append(grid);
  return part;
}
