// The handoff stage: which files can be had.
import { drawDownloads } from "./downloads.js";

export class HandoffStage {
  actions = [];

  settle(server) {
    drawDownloads(server);
  }
}
