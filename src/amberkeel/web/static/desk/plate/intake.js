// Uploads with progress; an upload can be stopped, and says in words what went wrong.
const drop = document.querySelector("#drop");
const trouble = document.querySelector("#trouble");
const sending = document.querySelector("#sending");
const csrf = document.querySelector("meta[name=csrf-token]").content;
let request = null;

function complain(text) {
  trouble.textContent = text;
  trouble.hidden = !text;
}

function send(files) {
  if (!files.length) return;
  complain("");
  const form = new FormData();
  for (const file of files) form.append("files", file);
  request = new XMLHttpRequest();
  request.open("POST", drop.dataset.url);
  request.setRequestHeader("X-CSRFToken", csrf);
  request.setRequestHeader("Accept", "application/json");
  request.upload.onprogress = (e) => {
    document.querySelector("#share").value = e.loaded / e.total;
    document.querySelector("#sent").textContent = `${(e.loaded / 1e6).toFixed(0)} of ${(e.total / 1e6).toFixed(0)} MB`;
  };
  request.onload = () => {
    sending.hidden = true;
    let answer = {};
    try {
      answer = JSON.parse(request.responseText);
    } catch {
      /* not JSON: the general words below serve */
    }
    if (request.status === 200) location.href = answer.next;
    else complain(answer.error || "The upload did not arrive whole. Try again.");
  };
  request.onerror = () => {
    sending.hidden = true;
    complain("The upload broke off. Nothing was kept; try again.");
  };
  request.onabort = () => {
    sending.hidden = true;
    complain("Stopped. Nothing was kept.");
  };
  sending.hidden = false;
  request.send(form);
}

drop.addEventListener("dragover", (e) => {
  e.preventDefault();
  drop.classList.add("over");
});
drop.addEventListener("dragleave", () => drop.classList.remove("over"));
drop.addEventListener("drop", (e) => {
  e.preventDefault();
  drop.classList.remove("over");
  send(e.dataTransfer.files);
});
document.querySelector("#files").addEventListener("change", (e) => send(e.target.files));
document.querySelector("#stop").addEventListener("click", () => request?.abort());

// Several plates of a root are confirmed together.
const several = document.querySelector("[data-several]");
const boxes = [...document.querySelectorAll("input[name=source]")];
const count = () => {
  if (several) several.disabled = !boxes.some((box) => box.checked);
};
for (const box of boxes) box.addEventListener("change", count);
document.querySelector("[data-all]")?.addEventListener("click", () => {
  const on = !boxes.every((box) => box.checked);
  for (const box of boxes) box.checked = on;
  count();
});
