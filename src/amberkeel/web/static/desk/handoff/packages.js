// Packages: for whom, what they get, the versions that were made, read back and checked.
import { get, post, toast } from "../shell/api.js";
import { element, find } from "../shell/dom.js";

const WORDS = { straightened: "the straightened plate", distorted: "the plate as filmed" };

export class PackBench {
  constructor(desk) {
    this.desk = desk;
    this.found = { recipients: [], formats: [], packages: [], units: [], in_set: 0 };
    this.chosen = "";
    this.other = null;
    this.actions = [
      { id: "pack-make", name: "Handoff: make the next version", run: () => this.make() },
      { id: "pack-edit", name: "Handoff: change what the recipient gets", run: () => this.edit() },
      { id: "pack-save", name: "Handoff: save the recipient for all shots", run: () => this.save() },
      { id: "pack-forget", name: "Handoff: delete the recipient", run: () => this.forget() },
    ];
    find("#packfor").addEventListener("change", (e) => {
      this.chosen = e.target.value;
      this.draw();
      this.fill();
    });
  }

  get recipient() {
    return this.found.recipients.find((one) => one.name === this.chosen) ?? this.found.recipients[0];
  }

  async fetch() {
    this.found = await get(this.desk.at("handoff.json"));
    this.draw();
  }

  edit() {
    find("#packedit").hidden = !find("#packedit").hidden;
    this.fill();
  }

  /** Put the chosen recipient's choices into the fields. */
  fill() {
    const one = this.recipient;
    if (!one) return;
    find("#rname").value = one.name;
    find("#rformats").replaceChildren(
      ...this.found.formats.map(({ key, holds }) => {
        const row = element("label", "flex items-center gap-1");
        const box = element("input");
        Object.assign(box, { type: "checkbox", value: key, checked: one.formats.includes(key) });
        row.append(box, element("span", "fig", key), element("span", "label truncate", holds));
        return row;
      }),
    );
    find("#runit").replaceChildren(
      ...this.found.units.map((unit) => new Option(unit, unit, unit === one.unit, unit === one.unit)),
    );
    const fields = { rscale: one.scale, roffset: one.frame_offset, roverscan: one.overscan, rnaming: one.naming };
    Object.assign(fields, { rimages: one.images, rlocator: one.locator, rgroups: one.groups.join(", ") });
    for (const [id, value] of Object.entries({ ...fields, rup: one.up, rlens: one.lens, rplates: one.plates }))
      find(`#${id}`).value = value;
    for (const [id, on] of [
      ["rcentred", one.centred],
      ["rstmaps", one.st_maps],
      ["rmattes", one.mattes],
      ["rthings", one.things],
      ["rtextures", one.textures],
      ["rmovieplate", one.movies.includes("plate")],
      ["rmovieprobes", one.movies.includes("probes")],
      ["rpdf", one.report.includes("pdf")],
    ])
      find(`#${id}`).checked = on;
  }

  /** What the fields say. */
  typed() {
    const of = (id) => find(`#${id}`).value.trim();
    const { saved, ...rest } = this.recipient;
    return {
      ...rest,
      name: of("rname"),
      formats: [...find("#rformats").querySelectorAll("input:checked")].map((box) => box.value),
      unit: of("runit"),
      scale: Number(of("rscale").replace(",", ".")),
      up: of("rup"),
      frame_offset: Number(of("roffset")),
      lens: of("rlens"),
      overscan: of("roverscan"),
      plates: of("rplates"),
      centred: find("#rcentred").checked,
      st_maps: find("#rstmaps").checked,
      mattes: find("#rmattes").checked,
      things: find("#rthings").checked,
      textures: find("#rtextures").checked,
      images: of("rimages"),
      locator: Number(of("rlocator").replace(",", ".")),
      groups: of("rgroups")
        .split(",")
        .map((word) => word.trim())
        .filter(Boolean),
      movies: ["plate", "probes"].filter((which) => find(`#rmovie${which}`).checked),
      report: find("#rpdf").checked ? ["html", "pdf"] : ["html"],
      naming: of("rnaming"),
    };
  }

  save() {
    if (find("#packedit").hidden) return this.edit();
    return this.desk.act(async () => {
      const answer = await post(this.desk.at("handoff/recipients"), { recipient: this.typed() });
      toast(answer.said);
      this.chosen = answer.name;
      find("#packedit").hidden = true;
      await this.fetch();
    });
  }

  forget() {
    const one = this.recipient;
    if (!one?.saved) return toast("A ready-made recipient stays; save one of your own.", true);
    return this.desk.act(async () => {
      toast((await post(this.desk.at("handoff/recipients"), { remove: one.name })).said);
      this.chosen = "";
      await this.fetch();
    });
  }

  make() {
    const reason = find("#packreason")?.value.trim() ?? "";
    return this.desk.start("handoff/package", {
      recipient: this.recipient.name,
      whole_set: !find("#packsetrow").hidden && find("#packset").checked,
      reason,
    });
  }

  draw() {
    const { recipients, packages, in_set: inSet } = this.found;
    const one = this.recipient;
    if (!one) return;
    const { server } = this.desk.state;
    const attempt = server?.attempts.find((a) => a.id === server.pinned);
    find("#packsays").textContent = attempt
      ? `Attempt ${attempt.number}, pinned, in this shot's world. Each file is read back before it leaves.`
      : "Nothing to hand on yet: solve the shot first.";
    find("#packfor").replaceChildren(
      ...recipients.map((r) => new Option(r.saved ? r.name : `${r.name} (ready-made)`, r.name, false, r === one)),
    );
    find("#packwords").textContent = describe(one);
    find("#packsetrow").hidden = inSet < 2;
    find("#packsetsays").textContent = `All ${inSet} shots of the set in one scene`;
    const next = Math.max(0, ...packages.map((p) => p.version)) + 1;
    const button = find('[data-act="pack-make"]');
    button.disabled = !attempt;
    button.lastElementChild.textContent = `Make version ${next}`;
    find("#packcount").textContent = packages.length ? `${packages.length}` : "";
    const rows = packages.map((p, k) => this.row(p, packages[k + 1]));
    find("#packlist").replaceChildren(...(rows.length ? rows : [element("p", "label my-1", "None was made yet.")]));
  }

  row(one, before) {
    const card = element("div", `packrow${one.stale ? " behind" : ""}`);
    const head = element("div", "flex gap-2 items-baseline");
    const link = element("a", "fig", `v${String(one.version).padStart(3, "0")}`);
    Object.assign(link, { href: `/packages/${one.id}.zip`, title: `${one.folder}.zip` });
    const size = `${(one.bytes / 1e6).toFixed(one.bytes < 1e7 ? 1 : 0)} MB`;
    head.append(link, element("span", "truncate grow", one.recipient), element("span", "label fig", size));
    const fine = one.proof.every((p) => p.holds);
    const seen = one.px === null ? "no camera in it" : `worst ${one.px.toFixed(4)} px`;
    const proof = element("p", fine ? "ok" : "say", fine ? `✓ Read back: ${seen}` : `Left although: ${one.reason}`);
    proof.title = one.proof.map((p) => `${p.format}: ${p.px === null ? "–" : `${p.px.toFixed(4)} px`}`).join("\n");
    const tail = element("p", "label", `${one.when} by ${one.who} · `);
    const readme = element("a", "underline", "README");
    Object.assign(readme, { href: `/packages/${one.id}/README.txt`, target: "_blank" });
    tail.append(readme);
    if (before) {
      const differs = element("button", "link", "what changed");
      differs.addEventListener("click", () => this.compare(one, before, card));
      tail.append(" · ", differs);
    }
    card.append(head, proof, tail);
    if (one.stale) card.append(element("p", "text-orchid", `◆ Behind: ${one.stale}`));
    return card;
  }

  compare(one, before, card) {
    return this.desk.act(async () => {
      const said = await post(`/packages/${one.id}/compare`, { other: before.id });
      card.querySelector(".differs")?.remove();
      const list = element("ul", "differs");
      list.append(...said.words.map((words) => element("li", "", words)));
      card.append(list);
    });
  }
}

/** What a recipient gets, in a line. */
function describe({ formats, unit, scale, up, lens, plates, st_maps: maps, mattes, movies, locator }) {
  const times = scale === 1 ? "" : ` ×${scale}`;
  const plate = {
    copied: ", plate copied",
    linked: ", plate linked",
    written: ", plate as pictures",
    straightened: ", plate straightened",
  }[plates];
  const points = locator ? `, points as locators of ${locator} m` : "";
  const film = movies.length ? `, ${movies.length === 2 ? "two movies" : "a movie"}` : "";
  const also = `${maps ? ", ST maps" : ""}${mattes ? ", mattes" : ""}${film}${points}`;
  return `${formats.join(", ")} in ${unit}${times}, ${up.toUpperCase()} up; for ${WORDS[lens]}${plate ?? ""}${also}.`;
}
