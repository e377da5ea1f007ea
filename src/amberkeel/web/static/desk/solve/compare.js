// Two residual lanes on one axis.
import { get } from "../shell/api.js";
import { INK } from "../shell/colour.js";

const canvas = document.querySelector("#curves");
const { a, b, an, bn } = canvas.dataset;
const pair = await Promise.all([a, b].map((id) => get(`/attempts/${id}.json`)));
const frames = pair.map((p) => p.world.frames.map((f) => f.frame));

function draw() {
  const ratio = devicePixelRatio || 1;
  const [width, height] = [canvas.clientWidth, canvas.clientHeight];
  [canvas.width, canvas.height] = [width * ratio, height * ratio];
  const c = canvas.getContext("2d");
  c.scale(ratio, ratio);
  const x = d3.scaleLinear(d3.extent(frames.flat()), [52, width - 16]);
  const y = d3.scaleLinear([0, 1.15 * d3.max(pair.flatMap((p) => p.frame_rms))], [height - 26, 12]);
  c.font = "11px 'JetBrains Mono'";
  for (const v of y.ticks(5)) {
    c.fillStyle = INK.line;
    c.fillRect(52, Math.round(y(v)), width - 68, 1);
    c.fillStyle = INK.muted;
    c.fillText(v.toFixed(2), 8, y(v) + 4);
  }
  for (const f of x.ticks(10)) {
    c.fillStyle = INK.muted;
    c.fillText(f, x(f) - 12, height - 8);
  }
  const looks = [
    [INK.verdigris, [], an],
    [INK.amber, [6, 4], bn],
  ];
  for (const [k, [colour, dash, number]] of looks.entries()) {
    c.strokeStyle = c.fillStyle = colour;
    c.lineWidth = 2;
    c.setLineDash(dash);
    c.beginPath();
    pair[k].frame_rms.forEach((v, n) => c.lineTo(x(pair[k].first + n), y(v ?? 0)));
    c.stroke();
    c.fillText(`${dash.length ? "- -" : "—"} attempt ${number}, px RMS`, 64 + 200 * k, 22);
  }
}
new ResizeObserver(draw).observe(canvas);
document.body.dataset.ready = "yes";
