// The page of what is stored: deleted shots and productions are brought back.
import { post, toast } from "./api.js";

document.addEventListener("click", async (event) => {
  const button = event.target.closest("[data-restore]");
  if (!button) return;
  button.disabled = true;
  try {
    const { name } = await post(button.dataset.restore);
    button.closest("tr").remove();
    toast(`${name} is back on the board.`);
  } catch (error) {
    button.disabled = false;
    toast(error.message, true);
  }
});
