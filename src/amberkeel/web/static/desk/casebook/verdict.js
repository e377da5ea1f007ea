// The verdict page: printing, and the movie drawn in the background.
import { get, post } from "../shell/api.js";
import { find } from "../shell/dom.js";

const REST_MS = 1200;

find("#print").addEventListener("click", () => window.print());
const button = find("#movie");
button.addEventListener("click", async () => {
  const says = find("#moviesays");
  try {
    const { job } = await post(`/shots/${button.dataset.shot}/movie`, {});
    button.disabled = true;
    says.textContent = "Drawing…";
    await ended(job, says);
    location.reload();
  } catch (error) {
    button.disabled = false;
    says.textContent = error.message;
  }
});
document.body.dataset.ready = "yes";

/** Wait until a job is over, saying how far it is; raises what it failed with. */
async function ended(job, says) {
  for (;;) {
    const one = await get(`/jobs/${job}.json`);
    if (one.state === "done") return;
    if (!["queued", "running"].includes(one.state)) throw new Error(one.error || "It was cancelled.");
    says.textContent =
      one.state === "running" ? `${one.doing} · ${Math.round(100 * one.progress)} %` : "Waiting for a worker";
    await new Promise((resolve) => setTimeout(resolve, REST_MS));
  }
}
