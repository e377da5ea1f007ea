// The production's lens profiles: which is in use, and a form to change one.
import { element } from "../shell/dom.js";

/** Fill a box with cards; `open` is the profile being changed, `act` has use(body), edit(id or null), save(body). */
export function drawProfileList(box, kept, open, act) {
  if (!kept.profiles.length) {
    box.replaceChildren(
      element(
        "p",
        "label my-1",
        "No profile yet. Draw lines and use them, or film a grid: " +
          "it stands here then, for every shot of the production.",
      ),
    );
    return;
  }
  box.replaceChildren(
    ...kept.profiles.map((p) => {
      const used = p.id === kept.profile;
      const card = element("div", `attempt profile${used ? " pinned" : ""}`);
      const name = element("span", "", p.name);
      const use = element("button", `button quiet${used ? " on" : ""}`, used ? "in use" : "use");
      use.addEventListener("click", () => act.use(used ? { none: true } : { profile: p.id }));
      const change = element("button", `button quiet${open === p.id ? " on" : ""}`, "change");
      change.addEventListener("click", () => act.edit(open === p.id ? null : p.id));
      const buttons = element("span", "flex gap-1");
      buttons.append(change, use);
      card.append(name, buttons, element("small", "", facts(p)));
      if (p.source === "map") card.append(element("small", "", p.notes.join(" ")));
      if (open !== p.id) return card;
      const whole = element("div", "");
      whole.append(card, form(p, act));
      return whole;
    }),
  );
}

function facts(p) {
  const own = Object.keys(p.sources ?? {});
  const bits = [
    `from ${p.source}${own.length ? `, ${own.join(", ")} typed` : ""}`,
    p.focal_mm ? `f ${p.focal_mm.toFixed(2)} ±${p.focal_sigma_mm.toFixed(2)} mm` : "focal length not told",
  ];
  bits.push(
    p.model === "radial"
      ? p.radial
          .filter((v) => v)
          .map((v, k) => `k${k + 1} ${v.toFixed(4)}`)
          .join(", ") || "no distortion"
      : `${p.model} model`,
  );
  if (p.readout != null) bits.push(`readout ${p.readout.toFixed(2)}`);
  if (p.shots.length) bits.push(`used by ${p.shots.join(", ")}`);
  return bits.join(" · ");
}

function form(p, act) {
  const out = element("form", "my-2");
  const field = (label, ...inputs) => {
    const row = element("label", "field");
    const both = element("span", "flex gap-1.5 items-center");
    both.append(...inputs);
    row.append(element("span", "", label), both);
    out.append(row);
  };
  const input = (name, value, share, title) => {
    const one = element("input", "fig");
    Object.assign(one, { name, value, title });
    one.setAttribute("aria-label", title);
    one.style.flex = `${share} 1 0`;
    one.style.minWidth = "0";
    return one;
  };
  field("Name", Object.assign(input("name", p.name, 1, "Name"), { className: "", maxLength: 80 }));
  const sigma = (value) => (value ? Number(value.toPrecision(2)).toString() : "0");
  const focal = p.focal_mm ? [p.focal_mm.toFixed(3), sigma(p.focal_sigma_mm)] : ["", "0"];
  out.append(element("p", "label", "Each value, and one sigma of it"));
  field(
    "f, mm",
    input("focal", focal[0], 3, "Focal length in mm; empty where it is not told"),
    input("focal±", focal[1], 2, "Its sigma in mm"),
  );
  const shown = {};
  const inOrder = Object.entries(p.values).sort(([a], [b]) => a.startsWith("c") - b.startsWith("c"));
  for (const [name, [value, spread]] of inOrder) {
    shown[name] = [name.startsWith("c") ? value.toFixed(2) : value.toFixed(5), sigma(spread)];
    field(
      name.startsWith("c") ? `${name}, px` : name,
      input(name, shown[name][0], 3, name),
      input(`${name}±`, shown[name][1], 2, `Sigma of ${name}`),
    );
  }
  const rows = p.readout == null ? "" : p.readout.toFixed(3);
  field(
    "Readout",
    input("readout", rows, 1, "Share of the frame interval from the first row to the last; empty: unknown"),
  );
  const buttons = element("div", "flex gap-1.5 mt-1");
  const keep = element("button", "button main grow", "Keep the change");
  const away = element("button", "button", "Take away");
  away.type = "button";
  away.addEventListener("click", () => act.save({ id: p.id, version: p.version, removed: true }));
  buttons.append(keep, away);
  out.append(buttons);
  if (p.shots.length) out.append(element("p", "label mt-1", `A change of values marks ${p.shots.join(", ")}.`));
  out.addEventListener("submit", (e) => {
    e.preventDefault();
    const values = {};
    // What was not touched is not sent: it keeps its digits and where it came from.
    for (const [name, was] of Object.entries(shown)) {
      const now = [out.elements[name].value, out.elements[`${name}±`].value];
      if (now[0] !== was[0] || now[1] !== was[1]) values[name] = now;
    }
    const body = { id: p.id, version: p.version, name: out.elements.namedItem("name").value, values };
    if (out.elements.focal.value !== focal[0] || out.elements["focal±"].value !== focal[1])
      Object.assign(body, { focal_mm: out.elements.focal.value, focal_sigma_mm: out.elements["focal±"].value });
    if (out.elements.readout.value !== rows) body.readout = out.elements.readout.value;
    act.save(body);
  });
  return out;
}
