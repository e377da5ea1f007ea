// The casebook: findings with what shows them, remedies to try, and what came of those that were tried.
import { element, find } from "../shell/dom.js";
import { drawSpark } from "./spark.js";
import { trialCard } from "./trials.js";

const NAMES = { serious: "Serious", notable: "Worth a look", minor: "Minor", calm: "Calm" };

/** Most buttons of one finding; the others stand in its menu of remedies. */
const MOST_REMEDIES = 3;

/** Draw the findings, the trials at work, and what was tried before; `act` tries, keeps, drops, shows, selects. */
export function drawCasebook(server, state, act) {
  const box = find("#findings");
  const open = new Set([...box.querySelectorAll("details[open]")].map((d) => d.dataset.name));
  const loud = server.findings.filter((f) => f.severity !== "calm");
  const calm = server.findings.filter((f) => f.severity === "calm");
  const isOver = (t) => t.decided || (t.stale && t.state === "done");
  const live = server.trials.filter((t) => !isOver(t));
  const over = server.trials.filter(isOver);
  const at = places(server.findings);
  box.replaceChildren(
    head(server, loud, act),
    ...ranking(live, act),
    ...loud.map((f) =>
      card(
        f,
        at.get(f),
        state,
        act,
        live.filter((t) => t.finding === f.kind && t.finding),
      ),
    ),
    ...live.filter((t) => !loud.some((f) => f.kind === t.finding)).map((t) => trialCard(t, act)),
    ...(calm.length
      ? [
          fold(
            "calm",
            calm.length === 1 ? "One thing is as it should be" : `${calm.length} things are as they should be`,
            calm.map((f) => calmLine(f, act)),
            open,
            !loud.length,
          ),
        ]
      : []),
    ...(over.length
      ? [
          fold(
            "tried",
            `Tried before: ${over.length}`,
            over.map((t) => trialCard(t, act)),
            open,
          ),
        ]
      : []),
  );
}

const ORDER = ["better", "same", "number only", "worse"];

/** Trials that are done and undecided, best first, where there are several. */
function ranking(live, act) {
  const done = live.filter((t) => t.state === "done" && t.comparison.before);
  if (done.length < 2) return [];
  const share = ({ comparison: c }) => (c.before.check_px ? c.after.check_px / c.before.check_px : 1);
  const ranked = [...done].sort((a, b) => ORDER.indexOf(a.verdict) - ORDER.indexOf(b.verdict) || share(a) - share(b));
  const out = element("ol", "ranking");
  out.append(element("p", "label", "Tried, best first:"));
  for (const trial of ranked) {
    const row = element("li", trial.verdict.replace(" ", "-"));
    const change = 100 * (share(trial) - 1);
    row.append(
      element("span", "grow", trial.words),
      element("span", "fig", `${change > 0 ? "+" : "−"}${Math.abs(change).toFixed(1)} %`),
    );
    if (trial.verdict === "better") row.append(button("Keep", () => act.keep(trial), "quiet"));
    out.append(row);
  }
  return [out];
}

/** Where each finding stands among those of its kind. */
function places(findings) {
  const seen = new Map();
  return new Map(
    findings.map((f) => {
      const at = seen.get(f.kind) ?? 0;
      seen.set(f.kind, at + 1);
      return [f, at];
    }),
  );
}

function head(server, loud, act) {
  const out = element("div", "casehead");
  if (!server.pinned) {
    out.append(
      element("p", "label", "Findings stand here once the shot is solved, and before that where tracks are thin."),
    );
    return out;
  }
  if (server.undiagnosed) {
    out.append(
      element("p", "label grow", "This attempt has not been diagnosed."),
      button("Diagnose it", act.diagnose, "main"),
    );
    return out;
  }
  const tryable = loud.filter((f) => f.remedies.some((r) => r.code !== "advice"));
  out.append(element("p", "grow", loud.length ? `${loud.length} to look at, worst first` : "Nothing needs doing."));
  if (tryable.length > 1)
    out.append(
      button(
        `Try all ${tryable.length}`,
        act.tryAll,
        "",
        "The first remedy of each, one after the other; ranked when they are done",
      ),
    );
  out.append(
    button("Work on it", act.improve, "", "Try remedies by itself and keep only what withheld tracks call better"),
  );
  return out;
}

function button(words, run, look = "", title = "") {
  const out = element("button", `button ${look}`, words);
  if (title) out.title = title;
  out.addEventListener("click", run);
  return out;
}

/** One finding: how serious, the sentence, what shows it, what could help, and what came of trying. */
function card(finding, at, state, act, trials) {
  const out = element("article", `finding ${finding.severity}`);
  const top = element("div", "top");
  const mark = element("span", "mark");
  mark.title = NAMES[finding.severity];
  const sure = element("span", "sure", `${NAMES[finding.severity]} · ${Math.round(100 * finding.confidence)} % sure`);
  top.append(mark, sure, ...evidence(finding, act));
  out.append(top, element("p", "", finding.text));
  const spark = drawSpark(finding, state);
  if (spark) {
    spark.addEventListener("click", () => act.show(finding));
    out.append(spark);
  }
  const row = element("div", "remedies");
  if (finding.remedies.some((r) => r.code !== "advice")) row.append(element("span", "advice", "Try:"));
  finding.remedies.slice(0, MOST_REMEDIES).forEach((remedy, k) => {
    if (remedy.code === "advice") return row.append(element("span", "advice", remedy.words));
    const tried = trials.some((t) => t.words === remedy.words && !t.stale);
    const one = button(
      remedy.words,
      () => act.try(finding.kind, at, k),
      "quiet",
      "Try it: a new attempt beside this one; nothing is changed",
    );
    one.disabled = tried;
    return row.append(one);
  });
  if (finding.remedies.length) out.append(row);
  out.append(...trials.map((t) => trialCard(t, act)));
  return out;
}

/** Frames and tracks that show a finding, to jump to. */
function evidence(finding, act) {
  const out = [];
  if (finding.frames.length) {
    const [a, z] = [finding.frames[0], finding.frames.at(-1)];
    const words = a === z ? `${a}` : `${a}–${z}`;
    out.push(chip(words, "Go to these frames", () => act.frames(finding)));
  }
  if (finding.tracks.length) {
    const words = finding.tracks.length === 1 ? "1 track" : `${finding.tracks.length} tracks`;
    out.push(chip(words, "Select them", () => act.select(finding.tracks)));
  }
  return out;
}

function chip(words, title, run) {
  const out = element("button", "chip", words);
  out.title = title;
  out.addEventListener("click", run);
  return out;
}

function calmLine(finding, act) {
  const out = element("p", "finding calm");
  out.append(element("span", "mark"), finding.text, " ", ...evidence(finding, act));
  return out;
}

function fold(name, words, rows, open, start = false) {
  const out = element("details", "fold");
  out.dataset.name = name;
  out.open = open.has(name) || start;
  out.append(element("summary", "", words), ...rows);
  return out;
}
