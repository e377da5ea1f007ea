// What can be handed on: the files of the pinned attempt.
import { find } from "../shell/dom.js";

/** Switch the downloads on where there is a pinned attempt. */
export function drawDownloads(server) {
  const attempt = server.attempts.find((a) => a.id === server.pinned);
  for (const link of find("#downloads").querySelectorAll("a")) {
    const lacks = server.lacks[link.dataset.name] ?? [];
    link.nextElementSibling.textContent = lacks.join(" ");
    link.nextElementSibling.hidden = !lacks.length;
    link.classList.toggle("pointer-events-none", !attempt);
    link.style.opacity = attempt ? 1 : 0.4;
  }
  find("#handoffnote").textContent = attempt
    ? `Attempt ${attempt.number}, pinned, in the world of this shot's datum.`
    : "Nothing to hand on yet: solve the shot first.";
}
