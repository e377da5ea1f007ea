// The desk as every stage sees it: the one state, the server, and the pieces of the page that stages share.
import { get, post, toast } from "./api.js";

/** One shot's desk. `parts` are viewport, lanes and frames; a stage reads and changes `state` through `store`. */
export class Desk {
  constructor(shot, store) {
    this.shot = shot;
    this.store = store;
    this.line = Promise.resolve();
    this.loading = Promise.resolve();
    /** Called with the server's state when it is another, before and after what it brings is there. */
    this.renewers = [];
  }

  get state() {
    return this.store.state;
  }

  get revision() {
    return this.state.server.revision;
  }

  get selected() {
    return [...this.state.selection];
  }

  /** The chosen frames, or all of them. */
  get span() {
    return this.state.range ?? [this.state.first, this.state.last];
  }

  at(path) {
    return `/shots/${this.shot}/${path}`;
  }

  /** Do something on the server once what was asked before is done; on any error say it and show the newest state. */
  act(work) {
    this.line = this.line.then(work).catch(async (error) => {
      toast(error.message, true);
      await this.renew().catch(() => {});
    });
    return this.line;
  }

  /** Take an answer that holds the server's state, and say what it says. */
  async answered(answer) {
    await this.take(answer);
    if (answer.said) toast(answer.said);
    return answer;
  }

  /** Send a change made on the state that the page shows. */
  send(path, body) {
    return this.act(async () => this.answered(await post(this.at(path), { ...body, revision: this.revision })));
  }

  /** Start a job. */
  start(path, body) {
    return this.act(async () => {
      await post(this.at(path), body);
      toast("Started; it runs beside your work.");
    });
  }

  /** Make an edit of a kind that pages may ask for. */
  edit(kind, payload) {
    return this.send("edit", { kind, payload });
  }

  async renew() {
    return this.take(await get(this.at("state.json")));
  }

  /** Take the server's state; what it brings is fetched by `renewers`. */
  async take(server) {
    const before = this.state.server;
    // An answer that was under way while an edit was made must not take the page back behind it.
    if (before && server.revision < before.revision) return null;
    // Other frames are another page: what is drawn is laid out by them.
    if (before && JSON.stringify(before.files) !== JSON.stringify(server.files)) return location.reload();
    this.store.set({ server, aspect: server.camera.pixel_aspect, hasGround: Boolean(server.datum?.ground) });
    // The same state may come twice, with an answer and with an event: both wait for what it brought.
    if (!before || before.revision !== server.revision) {
      this.loading = Promise.all([
        this.loading.catch(() => {}),
        ...this.renewers.map((renewer) => renewer(server, before)),
      ]);
    }
    await this.loading;
    return this.settle(server, before);
  }

  /** Set by the page: what is done once a state has come with all that it brings. */
  async settle() {}

  goStage(stage) {
    if (stage === this.state.stage) return;
    history.pushState({ stage }, "", this.at(stage));
    this.store.set({ stage });
  }
}
