// Features found and followed, with a look at what a frame would give.
import { post } from "../shell/api.js";
import { find } from "../shell/dom.js";

export class FeaturesBench {
  constructor(desk) {
    this.desk = desk;
    this.actions = [
      { id: "follow", name: "Find and follow features", run: () => desk.start("follow", this.settings()) },
    ];
    for (const id of ["#preview", "#count", "#spacing", "#threshold"]) {
      find(id).addEventListener("change", () => this.preview());
    }
  }

  settings() {
    return {
      count: find("#count").value,
      spacing: find("#spacing").value,
      threshold: find("#threshold").value,
      bridge: find("#bridge").value,
      images: find("#images").value,
    };
  }

  /** Show the features of the frame at hand, where that is asked for. */
  preview() {
    const { desk } = this;
    if (!find("#preview").checked) return desk.store.set({ preview: null });
    const { frame } = desk.state;
    return desk.act(async () => {
      const found = await post(desk.at("preview"), { ...this.settings(), frame });
      find("#previewed").textContent = `${found.features.length} found`;
      desk.store.set({ preview: { frame, features: found.features } });
    });
  }

  /** Another frame is at hand. */
  stepped() {
    if (find("#preview").checked) this.preview();
  }
}
