// The plate stage.
export class PlateStage {
  constructor(desk) {
    this.actions = [{ id: "ingest", name: "Make the plate's proxies again", run: () => desk.start("ingest", {}) }];
  }
}
