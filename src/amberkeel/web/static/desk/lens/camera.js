// The camera bench: sensor, crop, pixel aspect and focal length, with all evidence for the focal length side by side.
import { element } from "../shell/dom.js";

const find = (selector) => document.querySelector(selector);
const trimmed = (value, digits) => value.toFixed(digits).replace(/\.?0+$/, "");
const number = (text) => Number(String(text).replace(",", "."));

/** Where what stands in the fields came from; typing makes it typed. */
let sources = {};

/** Everything that says a focal length: {source, words, mm, sigma}. */
export function evidence(kept, fit) {
  const rows = [];
  const { found } = kept;
  if (found?.focal_mm) rows.push({ source: "metadata", words: "the file", mm: found.focal_mm });
  else if (found?.equivalent_mm && kept.sensor_mm)
    rows.push({
      source: "metadata",
      words: `the file, ${found.equivalent_mm.toFixed(0)} mm on full frame`,
      mm: (found.equivalent_mm * kept.sensor_mm) / 36,
    });
  if (fit?.focal_known && fit.focal_sigma_mm > 0)
    rows.push({ source: "lines", words: "the lines", mm: fit.focal_mm, sigma: fit.focal_sigma_mm });
  const used = kept.profiles.find((p) => p.id === kept.profile);
  if (used?.focal_mm)
    rows.push({ source: used.source, words: used.name, mm: used.focal_mm, sigma: used.focal_sigma_mm });
  if (kept.solved)
    rows.push({
      source: "solve",
      words: `attempt ${kept.solved.number}`,
      mm: kept.solved.focal_mm,
      sigma: kept.solved.focal_sigma_mm,
    });
  return rows;
}

/** Fill the fields from what the server keeps. */
export function fillCamera(kept) {
  sources = { ...kept.sources };
  const sizes = [
    ...kept.presets.map((p) => [`${p.name} (kept)`, p.width_mm]),
    ...kept.formats.map((f) => [f.name, f.width_mm]),
  ];
  find("#sensorformat").replaceChildren(
    new Option("its own size", ""),
    ...sizes.map(([name, width]) => new Option(name, width, false, Math.abs(width - kept.sensor_mm) < 0.005)),
  );
  find("#sensorwidth").value = `${kept.sensor_mm.toFixed(2)} mm`;
  find("#sensorcrop").value = trimmed(100 * kept.crop, 1);
  find("#pixelformat").replaceChildren(
    ...kept.pixel_formats.map(
      (f) =>
        new Option(
          `${f.name}: ${f.aspect.toFixed(3)}`,
          f.aspect,
          false,
          Math.abs(f.aspect - kept.pixel_aspect) < 0.002,
        ),
    ),
    new Option("another", ""),
  );
  if (![...find("#pixelformat").options].some((o) => o.selected && o.value)) find("#pixelformat").value = "";
  find("#pixelaspect").value = trimmed(kept.pixel_aspect, 4);
  find("#focalstate").value = kept.focal_state;
  find("#focalmm").value = kept.focal_mm ?? "";
  find("#focalsigma").value = kept.focal_sigma_mm ? trimmed(kept.focal_sigma_mm, 3) : "";
  const shown = kept.sensor_width_mm.toFixed(2);
  find("#cropnote").textContent =
    kept.crop < 1
      ? `The plate shows ${shown} mm of the sensor: a narrower view through the same lens. ` +
        "Scaling the plate alone changes nothing."
      : "";
  find("#cropnote").hidden = kept.crop >= 1;
  const width = kept.found?.sensor_width_mm;
  find("#sensormeta").hidden = !width || Math.abs(width - kept.sensor_mm) < 0.005;
  find("#sensormeta").textContent = width ? `The file says ${width.toFixed(2)} mm: take it` : "";
  find("#sensormeta").onclick = () => {
    find("#sensorwidth").value = `${width.toFixed(2)} mm`;
    find("#sensorformat").value = "";
    sources.sensor = "metadata";
    showSources();
  };
  showSources();
}

/** A sigma belongs to a start value alone; beside the values stands where they came from. */
function showSources() {
  find("#sensorsource").textContent = sources.sensor ?? "";
  const state = find("#focalstate").value;
  find("#focalsigmafield").hidden = state !== "start";
  find("#focalfield").hidden = state === "unknown";
  find("#focalsource").textContent = find("#focalmm").value ? (sources.focal ?? "typed") : "";
}

/** The evidence as rows, each of which can be taken as a start value. */
export function drawEvidence(kept, fit) {
  const rows = evidence(kept, fit);
  find("#evidence").replaceChildren(
    ...(rows.length
      ? rows.map(row)
      : [
          element(
            "p",
            "label my-1",
            "Nothing says a focal length yet: draw lines along two directions, film a grid, or solve.",
          ),
        ]),
  );
}

function row({ source, words, mm, sigma }) {
  const out = element("button", "linerow evidence");
  out.append(
    element("span", "truncate", words),
    element("span", "label", source),
    element("span", "fig", `${mm.toFixed(2)}${sigma ? ` ±${sigma.toFixed(2)}` : ""}`),
  );
  out.title = "Take it as a start value";
  out.addEventListener("click", () => {
    find("#focalmm").value = mm.toFixed(3);
    find("#focalsigma").value = sigma ? trimmed(sigma, 3) : "";
    find("#focalstate").value = "start";
    sources.focal = source;
    showSources();
  });
  return out;
}

/** The camera's facts as typed, ready to be sent. */
export function cameraFacts() {
  return {
    sensor: find("#sensorwidth").value,
    crop: number(find("#sensorcrop").value) / 100,
    pixel_aspect: number(find("#pixelaspect").value),
    focal_state: find("#focalstate").value,
    focal_mm: find("#focalmm").value,
    focal_sigma_mm: find("#focalsigma").value,
    sources,
  };
}

/** Choosing a format fills its size; what is typed comes from typing. */
export function setUpCameraBench() {
  find("#sensorformat").addEventListener("change", (e) => {
    if (e.target.value) find("#sensorwidth").value = `${Number(e.target.value).toFixed(2)} mm`;
    delete sources.sensor;
    showSources();
  });
  find("#sensorwidth").addEventListener("input", () => {
    sources.sensor = "typed";
    find("#sensorformat").value = "";
    showSources();
  });
  find("#pixelformat").addEventListener("change", (e) => {
    if (e.target.value) find("#pixelaspect").value = trimmed(Number(e.target.value), 4);
  });
  find("#focalmm").addEventListener("input", () => {
    delete sources.focal;
    showSources();
  });
  find("#focalstate").addEventListener("change", showSources);
}
