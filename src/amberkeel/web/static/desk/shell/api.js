// Talking to the server: JSON with the page's token, and errors shown in words.
const csrf = document.querySelector("meta[name=csrf-token]")?.content;
let timer = 0;

/** Show a short message; `bad` marks what went wrong. */
export function toast(text, bad = false) {
  const box = document.querySelector("#toast");
  box.textContent = text;
  box.classList.toggle("bad", bad);
  box.hidden = false;
  clearTimeout(timer);
  timer = setTimeout(
    () => {
      box.hidden = true;
    },
    bad ? 7000 : 2600,
  );
}

/** Fetch JSON; throws an Error in the server's words. */
export async function get(url) {
  const answer = await fetch(url, { headers: { Accept: "application/json" } });
  if (!answer.ok) throw new Error((await answer.json().catch(() => ({}))).error || "The server did not answer.");
  return answer.json();
}

/** Post JSON; throws an Error in the server's words. */
export async function post(url, body = {}) {
  const answer = await fetch(url, {
    method: "POST",
    headers: { "Content-Type": "application/json", Accept: "application/json", "X-CSRFToken": csrf },
    body: JSON.stringify(body),
  });
  const data = await answer.json().catch(() => ({}));
  if (!answer.ok) throw new Error(data.error || "The server did not answer. Is it still running?");
  return data;
}

/** Post a form with files; throws an Error in the server's words. */
export async function postForm(url, form) {
  const answer = await fetch(url, {
    method: "POST",
    headers: { Accept: "application/json", "X-CSRFToken": csrf },
    body: form,
  });
  const data = await answer.json().catch(() => ({}));
  if (!answer.ok) throw new Error(data.error || "The server did not answer. Is it still running?");
  return data;
}
