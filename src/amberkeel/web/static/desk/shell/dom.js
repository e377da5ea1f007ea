// Small helpers for the page: finding elements, making them, writing text only where it changes, work done once.
export const find = (selector) => document.querySelector(selector);

/** Write a text only where it is another: a rewritten text is laid out and painted anew at every step. */
export function write(selector, text) {
  const box = find(selector);
  if (box.textContent !== String(text)) box.textContent = text;
}

/** Make an element with a class and a text. */
export function element(tag, className, text) {
  const made = document.createElement(tag);
  if (className) made.className = className;
  if (text !== undefined) made.textContent = text;
  return made;
}

/** A small button of one sign in a row; pressing it does not press the row. */
export function signButton(sign, title, run) {
  const button = element("button", "button quiet tiny", sign);
  button.title = title;
  button.setAttribute("aria-label", title);
  button.addEventListener("click", (event) => {
    event.stopPropagation();
    run();
  });
  return button;
}

/** A check residual as a figure and its unit; where there is none, nothing was withheld. */
export const checked = (px) => (px ? [px.toFixed(3), "px"] : ["–", "not checked"]);

/** Fill a list of facts with rows of [name, value, unit]. */
export function facts(box, rows) {
  box.replaceChildren(
    ...rows.flatMap(([name, value, unit]) => {
      const figure = element("dd", "fig", value);
      if (unit) figure.append(element("span", "unit", unit));
      return [element("dt", "", name), figure];
    }),
  );
}

/** A typed number: a decimal comma or point; NaN for none. */
export const typed = (text) => Number(String(text).trim().replace(",", "."));

/** Return a function that does `work`, never twice at a time: what is asked for meanwhile is done once, afterwards. */
export function oneAtATime(work) {
  let isRunning = false;
  let isWanted = false;
  return async function run() {
    if (isRunning) {
      isWanted = true;
      return;
    }
    isRunning = true;
    try {
      await work();
    } finally {
      isRunning = false;
    }
    if (isWanted) {
      isWanted = false;
      await run();
    }
  };
}
