// Somebody else's camera, judged by this shot's tracks.
import { postForm, toast } from "../shell/api.js";
import { checked, facts, find } from "../shell/dom.js";

export class JudgeBench {
  constructor(desk) {
    this.desk = desk;
    this.actions = [
      { id: "handoff-judge", name: "Handoff: judge somebody else's camera", run: () => find("#judgefile").click() },
    ];
    this.file = null;
    this.actions.push({
      id: "handoff-adopt",
      name: "Handoff: keep the judged camera as an attempt",
      run: () => this.adopt(),
    });
    find("#judgefile").addEventListener("change", () => this.send());
  }

  send() {
    const [file] = find("#judgefile").files;
    if (!file) return;
    this.file = file;
    const form = this.form(file);
    find("#judgefile").value = "";
    find("#judgekeep").hidden = true;
    find("#judgedworst").textContent = `Judging ${file.name} …`;
    find("#judged").replaceChildren();
    this.desk.act(async () => {
      try {
        this.show(file.name, await postForm(this.desk.at("handoff/judge"), form));
      } catch (error) {
        find("#judgedworst").textContent = error.message;
        toast(error.message, true);
      }
    });
  }

  form(file) {
    const form = new FormData();
    form.append("file", file);
    form.append("offset", find("#judgeoffset").value.trim() || "0");
    return form;
  }

  /** Keep the camera that was judged last as an attempt in the ledger, beside the pinned one. */
  adopt() {
    if (!this.file) return toast("Judge a camera first.", true);
    return this.desk.act(async () => {
      await postForm(this.desk.at("handoff/adopt"), this.form(this.file));
      toast("It becomes an attempt in Solve; nothing that is pinned changes.");
    });
  }

  show(name, found) {
    find("#judgekeep").hidden = false;
    facts(find("#judged"), [
      ["Camera", name, ""],
      ["Fits within", found.rms_px.toFixed(3), "px RMS"],
      ["In the middle", found.median_px.toFixed(3), "px"],
      ["Do not agree", (100 * found.outliers).toFixed(1), "%"],
      ["Tracks", found.tracks, ""],
      ["Check residual here", ...checked(found.own_px)],
    ]);
    const worst = found.worst.map(([frame, px]) => `${frame} (${px.toFixed(2)} px)`).join(", ");
    find("#judgedworst").textContent = `Worst frames: ${worst}.`;
  }
}
