// The shot's jobs as they run: progress in the bar, news when one ends.
import { post, toast } from "./api.js";
import { listen } from "./news.js";

const WORDS = {
  ingest: "The plate is in.",
  follow: "Features are followed.",
  solve: "Solved: a new attempt is pinned.",
  demo: "The demo plate is rendered.",
  look: "What moves is known on every frame.",
  accept: "What moves is masked.",
  sight: "Sightings are there to choose from.",
  tags: "The plate was searched for tags.",
  diagnose: "Diagnosed: the casebook is up to date.",
  trial: "A trial is done; its card is in the casebook.",
  movie: "The movie is drawn; it is on the verdict page.",
};

/** Follow the shot's events; `renew(revision)` is called when the shot or a job has changed, `working(job)` as one goes
 * on or ends.
 */
export function followJobs(shot, renew, working = () => {}) {
  const line = document.querySelector("#job");
  const seen = new Map();
  let revision = null;
  let current = null;
  document
    .querySelector("#cancel")
    .addEventListener("click", () => current && post(`/jobs/${current}/cancel`).catch((e) => toast(e.message, true)));
  listen(shot, (news) => {
    const live = news.jobs.find((j) => j.state === "running") ?? news.jobs.find((j) => j.state === "queued");
    line.hidden = !live;
    if (live) {
      current = live.id;
      document.querySelector("#doing").textContent = live.doing;
      document.querySelector("#progress").value = live.progress;
      document.querySelector("#percent").textContent = `${Math.round(100 * live.progress)} %`;
      working(live);
    }
    for (const job of news.jobs) {
      const bar = document.querySelector(`.trial[data-job="${job.id}"] progress`);
      if (bar) bar.value = job.progress;
    }
    let ended = false;
    for (const job of news.jobs) {
      const before = seen.get(job.id);
      seen.set(job.id, job.state);
      // What had ended before this page came is no news; a short job may be first heard of when it is over.
      if (before === job.state || (!before && revision === null)) continue;
      ended = true;
      working(job);
      if (job.state === "done") toast(WORDS[job.kind] ?? (job.doing || "Done."));
      else if (["failed", "interrupted"].includes(job.state)) toast(job.error, true);
      else if (job.state === "cancelled")
        toast(["", "Cancelled."].includes(job.error ?? "") ? "Cancelled; nothing was changed." : job.error);
    }
    // The first news comes after the page's own state, and a job may have ended between the two.
    if (ended || revision !== news.revision) renew();
    revision = news.revision;
  });
}
