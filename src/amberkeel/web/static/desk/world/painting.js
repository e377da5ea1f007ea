// The projection bench: the plate on proxies, as one frame, a blend or a median; textures out, paintings in.
import { post, postForm, toast } from "../shell/api.js";
import { element, find } from "../shell/dom.js";

export class PaintingBench {
  constructor(desk) {
    this.desk = desk;
    this.onto = null;
    this.actions = [
      {
        id: "project-look",
        name: "World: see this frame's picture on the proxies, from all frames",
        run: () => this.lend(),
      },
      { id: "project-frame", name: "World: project this frame onto the proxies", run: () => this.project("one") },
      { id: "project-blend", name: "World: project the chosen frames, blended", run: () => this.project("blend") },
      {
        id: "project-median",
        name: "World: project the median over the shot: what passes through is gone",
        run: () => this.project("median"),
      },
      {
        id: "painted-frame",
        name: "World: bring in what was painted over this frame",
        run: () => find("#paintedfile").click(),
      },
    ];
    find("#paintfile").addEventListener("change", (e) => this.bring(e.target));
    find("#paintedfile").addEventListener("change", (e) => this.bringFrame(e.target));
    find("#paintbehind").addEventListener("change", (e) => {
      const behind = e.target.checked;
      desk.send("world/scene", { behind, label: `Paintings ${behind ? "behind" : "before"} what is masked` });
    });
  }

  /** Throw this frame's picture onto the proxies, or take it off again; nothing is kept. */
  lend() {
    const { store, state } = this.desk;
    const lent = state.world.lent ? null : state.frame;
    if (lent && !Object.keys(state.server?.scene?.proxies ?? {}).length)
      return toast("There is no proxy to see it on. Draw one first.", true);
    return store.set({ world: { ...state.world, lent } });
  }

  project(mode) {
    const { state } = this.desk;
    const [low, high] = state.range ?? [state.first, state.last];
    const all = Array.from({ length: high - low + 1 }, (_, k) => low + k);
    const frames = mode === "one" ? [state.frame] : all;
    const { chosen } = this;
    return this.desk.act(async () => {
      await post(this.desk.at("world/project"), {
        mode,
        frames,
        proxies: chosen,
        masked: find("#projectmasked").checked,
      });
      toast(
        `The plate is being put onto ${chosen.length ? "the chosen proxy" : "all proxies"}; it runs beside your work.`,
      );
    });
  }

  bring(input) {
    const form = new FormData();
    form.append("file", input.files[0]);
    form.append("revision", this.desk.revision);
    input.value = "";
    const { onto } = this;
    return this.desk.act(async () => this.desk.answered(await postForm(this.desk.at(`world/texture/${onto}`), form)));
  }

  bringFrame(input) {
    const form = new FormData();
    form.append("file", input.files[0]);
    form.append("frame", this.desk.state.frame);
    form.append("proxies", this.chosen.join(","));
    input.value = "";
    return this.desk.act(async () => {
      await postForm(this.desk.at("world/painted"), form);
      toast(`What was painted on frame ${this.desk.state.frame} is being laid onto the proxies.`);
    });
  }

  /** The chosen proxy alone, or none for all. */
  get chosen() {
    const { world, server } = this.desk.state;
    return world.chosen && server.scene?.proxies?.[world.chosen] ? [world.chosen] : [];
  }

  draw() {
    const { server, world } = this.desk.state;
    find('[data-act="project-look"]').classList.toggle("on", Boolean(world.lent));
    find("#lentsays").textContent = world.lent
      ? `The proxies show frame ${world.lent}, thrown onto them; go to other frames.`
      : "";
    find("#paintbehind").checked = Boolean(server?.scene?.behind);
    const proxies = Object.entries(server?.scene?.proxies ?? {});
    const rows = proxies.map(([id, thing]) => this.row(id, thing, world.chosen === id));
    const empty = "There are no proxies yet. Draw walls, floors and boxes first; the plate is projected onto them.";
    find("#paintlist").replaceChildren(...(rows.length ? rows : [element("p", "label my-1", empty)]));
    find("#paintonto").textContent = rows.length
      ? world.chosen && server.scene.proxies[world.chosen]
        ? `Onto ${server.scene.proxies[world.chosen].name}; click it again for all.`
        : "Onto all proxies that are shown."
      : "";
  }

  row(id, thing, chosen) {
    const { store, state } = this.desk;
    const row = element("div", `thingrow${chosen ? " sel" : ""}`);
    const image = element("img");
    image.className = "swatch";
    image.alt = "";
    if (thing.texture) image.src = `${this.desk.at(`world/texture/${id}.png`)}?${thing.texture.slice(0, 8)}`;
    row.append(image, element("span", "truncate grow", thing.name));
    if (thing.texture) {
      const kind = thing.light ? "exr" : "png";
      const out = element("a", "button quiet tiny", "save");
      out.href = `${this.desk.at(`world/texture/${id}.${kind}`)}?take=1`;
      out.title = kind === "exr" ? "Its texture as linear light (EXR)" : "Its texture as a PNG";
      out.addEventListener("click", (e) => e.stopPropagation());
      row.append(out);
    }
    const paint = element("button", "button quiet tiny", "load");
    paint.title = "Put a painted texture onto it";
    paint.addEventListener("click", (e) => {
      e.stopPropagation();
      this.onto = id;
      find("#paintfile").click();
    });
    row.append(paint);
    row.addEventListener("click", () => store.set({ world: { ...state.world, chosen: chosen ? null : id } }));
    return row;
  }
}
