// Slip predicted over the picture: how far an object put there would slide, by what the solve does not know.
import { INK, ramp } from "../../shell/colour.js";

/** Slip at which the ramp ends, pixels: what nobody could overlook. */
const LOUD_PX = 1.0;
const RAMP_SPAN = 5;

const colourOf = (px) => ramp((RAMP_SPAN * px) / LOUD_PX);

export const slip = {
  shown: ({ layers, slip: found, frame }, mode) => layers.slip && found?.frame === frame && mode.judging,

  draw(context, { slip: found, width, height, layers }, { toScreen, width: wide }) {
    const { columns, rows, px, median } = found;
    // Figures among tracks and sticks would be read by nobody.
    const figures = !layers.tracks && !layers.sticks;
    context.textAlign = "center";
    px.forEach((line, row) =>
      line.forEach((value, column) => {
        const [ax, ay] = toScreen((column / columns) * width, (row / rows) * height);
        const [bx, by] = toScreen(((column + 1) / columns) * width, ((row + 1) / rows) * height);
        drawCell(context, value, figures, ax, ay, bx - ax, by - ay);
      }),
    );
    drawSentence(context, median, wide);
    context.textAlign = "left";
  },
};

function drawCell(c, value, figures, x, y, w, h) {
  if (value === null) return;
  c.globalAlpha = 0.3;
  c.fillStyle = colourOf(value);
  c.fillRect(x, y, w - 1, h - 1);
  c.globalAlpha = 1;
  if (!figures || w < 34) return;
  c.font = "600 11px 'JetBrains Mono'";
  c.lineWidth = 3;
  c.strokeStyle = "#10161cd0";
  c.fillStyle = INK.sail;
  const text = value < 0.1 ? value.toFixed(3) : value.toFixed(2);
  c.strokeText(text, x + w / 2, y + h / 2 + 4);
  c.fillText(text, x + w / 2, y + h / 2 + 4);
}

function drawSentence(c, median, wide) {
  const text =
    median === null ? "Nothing near was solved" : `An object put here would slide, px · median ${median.toFixed(3)}`;
  c.font = "500 12px Barlow";
  const w = c.measureText(text).width + 20;
  c.fillStyle = "#10161cd0";
  c.fillRect(wide / 2 - w / 2, 8, w, 24);
  c.fillStyle = INK.sail;
  c.fillText(text, wide / 2, 24);
}
