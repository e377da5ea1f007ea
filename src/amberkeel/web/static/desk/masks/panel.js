// The masks' tools in the right column: the list, the chosen mask, proposals, and mattes coming in.

import { element } from "../shell/dom.js";
import { counted } from "../shell/words.js";

const find = (selector) => document.querySelector(selector);

function icon(name) {
  const svg = document.createElementNS("http://www.w3.org/2000/svg", "svg");
  const use = document.createElementNS("http://www.w3.org/2000/svg", "use");
  svg.setAttribute("class", "icon");
  use.setAttribute("href", `${document.querySelector("#desk").dataset.icons}#${name}`);
  svg.append(use);
  return svg;
}

/** Draw the list of masks; `on` answers choose(id) and toggle(mask). */
export function drawMaskList(state, on) {
  const masks = state.masks?.masks ?? [];
  const box = find("#masklist");
  if (!masks.length) {
    box.replaceChildren(
      element(
        "p",
        "label px-1",
        "Nothing is masked. Draw roughly around what moves, click spots of it, or let the program propose.",
      ),
    );
    return;
  }
  box.replaceChildren(
    ...masks.map((mask) => {
      const row = element("div", `maskrow${mask.id === state.mask ? " sel" : ""}${mask.on ? "" : " off"}`);
      const swatch = element("i");
      swatch.style.background = mask.colour;
      const name = element("span", "grow truncate", mask.name);
      const keys = Object.keys(mask.keys).length;
      const what = mask.kind === "shape" ? counted(keys, "key") : `${Object.keys(mask.mattes).length} fr`;
      const eye = element("button", "button quiet");
      eye.append(icon(mask.on ? "eye" : "eye-off"));
      eye.title = mask.on ? "Switch off" : "Switch on";
      eye.addEventListener("click", (e) => {
        e.stopPropagation();
        on.toggle(mask);
      });
      row.append(
        swatch,
        name,
        element("span", "label", mask.purpose === "keep" ? "keep" : ""),
        element("span", "fig label", what),
        eye,
      );
      row.addEventListener("click", () => on.choose(mask.id));
      return row;
    }),
  );
}

/** Fill the fields of the chosen mask. */
export function drawMaskFields(state) {
  const mask = state.masks?.masks.find((m) => m.id === state.mask);
  find("#maskfields").hidden = !mask;
  if (!mask) return;
  const set = (id, value) => {
    const field = find(id);
    if (document.activeElement !== field) field.value = value ?? "";
  };
  set("#maskname", mask.name);
  set("#maskpurpose", mask.purpose);
  set("#maskmargin", mask.margin);
  set("#maskfirst", mask.first);
  set("#masklast", mask.last);
  set("#maskcolour", mask.colour);
  set("#cleangrow", mask.cleaning.grow ?? 0);
  set("#cleanspeck", mask.cleaning.speck_px ?? 80);
  find("#cleanholes").checked = mask.cleaning.fill_holes ?? true;
  find("#shapetools").hidden = mask.kind !== "shape";
  find("#mattetools").hidden = mask.kind !== "matte";
  find("#learntools").hidden = mask.kind !== "matte" || mask.source !== "from samples";
  const [yes, no] = [mask.samples.filter((s) => s[3]).length, mask.samples.filter((s) => !s[3]).length];
  find("#spotcount").textContent = `${yes} are, ${no} are not`;
  find("#masksource").textContent = mask.source;
  find("#convert").textContent = mask.kind === "shape" ? "Make a matte of it" : "Make a shape of it";
}

const KINDS = {
  moving: "Moves by itself",
  swaying: "Moves in its place",
  changing: "Changes its look",
  shadow: "Shadow",
  reflection: "Reflection",
  crossing: "False corners",
};

const SAYS = {
  swaying: "as leaves, flags and water do",
  changing: "but little speaks for motion: a screen, a light, glitter",
  shadow: "only the light on it: a shadow, or light that wanders",
};

/** Why something is proposed, in words. Where a shot has no tracks, those that were followed for it do not count. */
export function reasonOf({ kind, tracks, evidence: { speed, share, background } }) {
  const some = tracks.length ? counted(tracks.length, "track") : null;
  const verb = (one, more) => (tracks.length === 1 ? one : more);
  const pace = speed && `${speed.toFixed(kind === "crossing" ? 2 : 1)} px a frame`;
  const large = `up to ${(100 * share).toFixed(1)} % of the picture`;
  if (SAYS[kind]) return `${cap(SAYS[kind])}; ${large}.`;
  if (kind === "reflection") {
    const says = `${some} ${verb("looks and moves", "look and move")} as the mirror images of others (dashed)`;
    return `${some ? says : "Mirror images of what lies above"}. Background: ${background}.`;
  }
  if (kind === "crossing") {
    const says = `${some ?? "Corners"} ${verb("slides", "slide")} along an edge${pace ? `, ${pace}` : ""}`;
    return `${says}, where a near and a far one cross.${some ? " Dashed: where a true corner would be." : ""}`;
  }
  const goes = some ? `${some} ${verb("goes", "go")} ${pace} another way` : `Goes ${pace} another way`;
  return `${pace ? goes : "No track in it; the picture departs"}; ${large}. Background: ${background}.`;
}

const cap = (words) => words[0].toUpperCase() + words.slice(1);

/** One chip a kind that is proposed more than once: all of it masked with one click. */
function kindChips(open, on) {
  const row = element("div", "flex flex-wrap gap-1 my-1");
  for (const [kind, name] of Object.entries(KINDS)) {
    const own = open.filter((p) => p.kind === kind);
    if (own.length < 2) continue;
    const chip = element("button", "chip", `${name}: mask all ${own.length}`);
    chip.addEventListener("click", () => on.maskAll(own));
    row.append(chip);
  }
  return row;
}

/** Proposals with their evidence; `on` answers show(p), select(p), mask(p) and dismiss(p). */
export function drawProposals(state, on) {
  const open = (state.masks?.proposals ?? []).filter((p) => p.state === "open");
  find("#proposals").replaceChildren(
    kindChips(open, on),
    ...open.map((p) => {
      const card = element("div", `proposal${p.id === state.proposal ? " sel" : ""}`);
      const name = element("b", "", `${KINDS[p.kind]}, ${p.frames[0]}-${p.frames.at(-1)}`);
      const acts = [
        ["Mask it", "", on.mask],
        ["Select its tracks", " quiet", on.select],
        ["Dismiss", " quiet", on.dismiss],
      ];
      const row = element("div", "flex gap-1 mt-1");
      for (const [text, look, act] of acts) {
        if (act === on.select && !p.tracks.length) continue;
        const button = element("button", `button${look}`, text);
        button.addEventListener("click", (e) => {
          e.stopPropagation();
          act(p);
        });
        row.append(button);
      }
      card.append(name, element("small", "", reasonOf(p)), row);
      card.addEventListener("click", () => on.show(p));
      return card;
    }),
  );
}

const MOST_LEAKS = 6;

/** Frames on which something that moves leaves its mask, worst first. */
function drawLeaks(state, leaks) {
  const box = find("#leaks");
  box.hidden = !leaks.length;
  if (!leaks.length) return;
  find("#leaktext").textContent =
    `Something that moves leaves its mask on ${counted(leaks.length, "frame")}, worst first:`;
  find("#leaklist").replaceChildren(
    ...leaks.slice(0, MOST_LEAKS).map(([frame, share]) => {
      const chip = element("button", `chip${frame === state.frame ? " on" : ""}`, String(frame));
      chip.title = `${(100 * share).toFixed(2)} % of the picture`;
      chip.dataset.leak = frame;
      return chip;
    }),
  );
}

/** What needs saying: tracks under masks, pictures masked whole, subjects left uncovered. */
export function drawMaskNotes(state, under) {
  const masks = state.masks;
  const say = [];
  if (masks?.full) say.push(`The masks cover the whole picture on ${masks.full}: nothing is left to track there.`);
  find("#masknotes").replaceChildren(...say.map((text) => element("p", "say my-1.5", text)));
  drawLeaks(state, masks?.leaks ?? []);
  find("#undermasks").hidden = !masks?.changed || !under?.tracks.length;
  if (!under) return;
  const run = under.tracks.length === 1 ? "runs" : "run";
  find("#undertext").textContent =
    `${counted(under.tracks.length, "track")} ${run} under masks on ${under.samples} frames in all.`;
}
