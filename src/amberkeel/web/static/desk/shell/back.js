document.querySelector("[data-back]")?.addEventListener("click", () => history.back());
