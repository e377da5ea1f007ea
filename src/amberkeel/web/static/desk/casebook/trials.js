// A trial: what is tried, how far it is, and before and after once it is done.
import { element } from "../shell/dom.js";

const MARKS = { better: "better", worse: "worse", same: "no difference", "number only": "number only" };
const DECIDED = { kept: "kept", dropped: "dropped" };

/** A trial's card, with what can be done about it. */
export function trialCard(trial, act) {
  const out = element("div", `trial ${trial.verdict.replace(" ", "-")} ${trial.decided}`);
  if (trial.job) out.dataset.job = trial.job;
  const top = element("div", "top");
  const word = trial.decided
    ? DECIDED[trial.decided]
    : trial.state === "done"
      ? MARKS[trial.verdict]
      : stateWord(trial);
  top.append(element("b", "grow", trial.words), element("span", "verdictmark", word));
  out.append(top);
  if (trial.state === "queued" || trial.state === "running") {
    const bar = element("progress");
    bar.max = 1;
    bar.value = trial.progress;
    out.append(bar, row(quiet("Cancel", () => act.cancel(trial))));
    return out;
  }
  const words = trial.comparison.words || trial.error;
  if (words) out.append(element("p", "", words));
  if (trial.comparison.before) out.append(beforeAfter(trial));
  out.append(element("small", "", whoAndWhen(trial)));
  if (trial.decided !== "kept") out.append(choices(trial, act));
  return out;
}

/** Who tried it, when, and which attempts it joins. */
function whoAndWhen({ who, when, number, base }) {
  const parts = [`${who}, ${when.replace("T", " ")}`];
  if (number) parts.push(`attempt ${number}`);
  return `${parts.join(" · ")}${base ? ` on attempt ${base}` : ""}`;
}

function stateWord(trial) {
  return (
    { queued: "waiting", running: `${Math.round(100 * trial.progress)} %`, cancelled: "cancelled" }[trial.state] ??
    "came to nothing"
  );
}

/** What can be done with a trial that is over. */
function choices(trial, act) {
  const out = [];
  if (trial.state !== "done") {
    if (trial.decided) return row();
    return row(
      quiet("Try again", () => act.again(trial)),
      quiet("Put it away", () => act.drop(trial)),
    );
  }
  if (trial.comparison.before) {
    const lanes = quiet(
      "Overlay",
      () => act.overlay(trial),
      "Both on each other: residuals in the lane, paths in the 3D view",
    );
    out.push(lanes);
  }
  if (trial.stale) {
    out.push(
      element("span", "advice", "The shot changed since."),
      quiet("Try again", () => act.again(trial)),
    );
    if (!trial.decided) out.push(quiet("Put it away", () => act.drop(trial)));
    return row(...out);
  }
  const keep = element("button", `button ${trial.verdict === "better" ? "main" : ""}`, "Keep");
  keep.title = "Make its changes to the tracks and pin its attempt; undo takes it back";
  keep.addEventListener("click", () => act.keep(trial));
  out.push(keep);
  if (!trial.decided) out.push(quiet("Drop", () => act.drop(trial)));
  return row(...out);
}

function row(...parts) {
  const out = element("div", "remedies");
  out.append(...parts);
  return out;
}

function quiet(words, run, title = "") {
  const out = element("button", "button quiet", words);
  if (title) out.title = title;
  out.addEventListener("click", run);
  return out;
}

/** Figures before and after, the change marked where it means something. */
function beforeAfter({ comparison }) {
  const { before: a, after: b } = comparison;
  const rows = [
    ["Check residual", a.check_px, b.check_px, 3, "px", true],
    ["Residual", a.rms_px, b.rms_px, 3, "px", false],
    ["Focal length", a.focal_px, b.focal_px, 1, "px", false],
    ["Its sigma", a.focal_sigma_px, b.focal_sigma_px, 2, "px", false],
    ["Predicted slip", a.slip_px, b.slip_px, 3, "px", true],
    ["Tracks", a.tracks, b.tracks, 0, "", false],
  ].filter(([, x, y]) => x !== null && y !== null);
  const out = element("table", "versus");
  for (const [name, x, y, digits, unit, counts] of rows) {
    const line = element("tr");
    const share = x ? y / x - 1 : 0;
    const look = counts && Math.abs(share) > 0.015 ? (share < 0 ? "good" : "bad") : "";
    const arrow = element(
      "td",
      `fig ${look}`,
      Math.abs(share) < 0.0005 ? "=" : `${share > 0 ? "+" : "−"}${Math.abs(100 * share).toFixed(1)} %`,
    );
    line.append(
      element("td", "", name),
      element("td", "fig", x.toFixed(digits)),
      element("td", "fig", y.toFixed(digits)),
      element("td", "unit", unit),
      arrow,
    );
    out.append(line);
  }
  const line = element("tr");
  line.append(
    element("td", "", "Path moved"),
    cell(`${(100 * comparison.position_share).toFixed(2)} % of its length, ${comparison.turn_deg.toFixed(3)}°`),
  );
  out.append(line);
  return out;
}

function cell(words) {
  const out = element("td", "fig", words);
  out.colSpan = 4;
  return out;
}
