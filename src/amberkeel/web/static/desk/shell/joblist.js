// The page of all jobs: it is drawn anew every second or two while it is looked at.
import { post } from "./api.js";

const EVERY_MS = 1500;
const box = document.querySelector("#jobs");

async function renew() {
  // A list that is being used stays under the hand: its buttons must not move away.
  if (document.hidden || box.matches(":active")) return;
  const answer = await fetch("/jobs/list");
  if (!answer.ok) return;
  const open = [...box.querySelectorAll("details[open]")].map((log) => log.dataset.log);
  box.innerHTML = await answer.text();
  for (const log of open) box.querySelector(`[data-log="${log}"]`)?.setAttribute("open", "");
}

box.addEventListener("click", async (event) => {
  const button = event.target.closest("[data-post]");
  if (!button) return;
  button.disabled = true;
  await post(button.dataset.post).catch((error) => {
    button.replaceWith(error.message);
  });
  await renew();
});
setInterval(renew, EVERY_MS);
