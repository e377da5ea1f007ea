// Animated outlines as they are drawn: the same interpolation that the server masks with.
// A control point is [x, y, in dx, in dy, out dx, out dy] in plate pixels.
const STEPS = 10;

function centre(points) {
  const sum = points.reduce(([x, y], p) => [x + p[0], y + p[1]], [0, 0]);
  return [sum[0] / points.length, sum[1] / points.length];
}

/** Angle, log scale and centres of the similarity that best takes one set of points to another. */
function similarity(a, b) {
  const [ca, cb] = [centre(a), centre(b)];
  let [dot, cross, spread] = [0, 0, 0];
  a.forEach((p, k) => {
    const [px, py, qx, qy] = [p[0] - ca[0], p[1] - ca[1], b[k][0] - cb[0], b[k][1] - cb[1]];
    dot += px * qx + py * qy;
    cross += px * qy - py * qx;
    spread += px * px + py * py;
  });
  const size = spread < 1e-9 ? 0 : Math.hypot(dot, cross) / spread;
  return size < 1e-9 ? { angle: 0, size: 0, ca, cb } : { angle: Math.atan2(cross, dot), size: Math.log(size), ca, cb };
}

/** Turn and scale points about `from`, and put that at `to`. */
export function turned(points, angle, size, from, to) {
  const [s, c] = [Math.exp(size) * Math.sin(angle), Math.exp(size) * Math.cos(angle)];
  const turn = (x, y) => [c * x - s * y, s * x + c * y];
  return points.map((p) => {
    const [x, y] = turn(p[0] - from[0], p[1] - from[1]);
    return [x + to[0], y + to[1], ...turn(p[2], p[3]), ...turn(p[4], p[5])];
  });
}

export function blend(a, b, share) {
  const { angle, size, ca, cb } = similarity(a, b);
  const middle = [ca[0] + share * (cb[0] - ca[0]), ca[1] + share * (cb[1] - ca[1])];
  const there = turned(a, share * angle, share * size, ca, middle);
  const back = turned(b, (share - 1) * angle, (share - 1) * size, cb, middle);
  return there.map((p, k) => p.map((v, n) => v + share * (back[k][n] - v)));
}

export const keyFrames = (mask) =>
  Object.keys(mask.keys)
    .map(Number)
    .sort((a, b) => a - b);

/** The control points of a shape at a frame. */
export function pointsAt(mask, frame) {
  const frames = keyFrames(mask);
  if (frame <= frames[0]) return mask.keys[frames[0]].points;
  if (frame >= frames.at(-1)) return mask.keys[frames.at(-1)].points;
  const k = frames.findIndex((f) => f > frame);
  const [low, high] = [frames[k - 1], frames[k]];
  if (low === frame) return mask.keys[low].points;
  return blend(mask.keys[low].points, mask.keys[high].points, (frame - low) / (high - low));
}

export const alive = (mask, frame) =>
  (mask.first == null || frame >= mask.first) && (mask.last == null || frame <= mask.last);

const cubic = (a, b, t) => {
  const u = 1 - t;
  const mix = (k) =>
    u ** 3 * a[k] + 3 * u * u * t * (a[k] + a[4 + k]) + 3 * u * t * t * (b[k] + b[2 + k]) + t ** 3 * b[k];
  return [mix(0), mix(1)];
};

/** The outline as a closed polygon. */
export function flatten(points, steps = STEPS) {
  return points.flatMap((a, k) => {
    const b = points[(k + 1) % points.length];
    if (Math.abs(a[4]) + Math.abs(a[5]) + Math.abs(b[2]) + Math.abs(b[3]) < 1e-9) return [[a[0], a[1]]];
    return Array.from({ length: steps }, (_, n) => cubic(a, b, n / steps));
  });
}

/** Give points the tangents of a smooth closed curve through them. */
export function smooth(points) {
  const n = points.length;
  return points.map((p, k) => {
    const [a, b] = [points[(k + n - 1) % n], points[(k + 1) % n]];
    const [dx, dy] = [(b[0] - a[0]) / 6, (b[1] - a[1]) / 6];
    return [p[0], p[1], -dx, -dy, dx, dy];
  });
}

export const corners = (points) => points.map((p) => [p[0], p[1], 0, 0, 0, 0]);

export function rectangle([ax, ay], [bx, by]) {
  return corners([
    [ax, ay],
    [bx, ay],
    [bx, by],
    [ax, by],
  ]);
}

export function ellipse([ax, ay], [bx, by]) {
  const [cx, cy, rx, ry] = [(ax + bx) / 2, (ay + by) / 2, Math.abs(bx - ax) / 2, Math.abs(by - ay) / 2];
  const k = 0.5523;
  return [
    [cx + rx, cy, 0, -k * ry, 0, k * ry],
    [cx, cy + ry, k * rx, 0, -k * rx, 0],
    [cx - rx, cy, 0, k * ry, 0, -k * ry],
    [cx, cy - ry, -k * rx, 0, k * rx, 0],
  ];
}

/** Split a segment of every key at share t: the outline stays as it is. */
export function split(points, segment, t) {
  const [a, b] = [points[segment], points[(segment + 1) % points.length]];
  const lerp = (p, q) => [p[0] + t * (q[0] - p[0]), p[1] + t * (q[1] - p[1])];
  const [p0, p1, p2, p3] = [
    [a[0], a[1]],
    [a[0] + a[4], a[1] + a[5]],
    [b[0] + b[2], b[1] + b[3]],
    [b[0], b[1]],
  ];
  const straight = Math.abs(a[4]) + Math.abs(a[5]) + Math.abs(b[2]) + Math.abs(b[3]) < 1e-9;
  if (straight) return [...points.slice(0, segment + 1), [...lerp(p0, p3), 0, 0, 0, 0], ...points.slice(segment + 1)];
  const [q0, q1, q2] = [lerp(p0, p1), lerp(p1, p2), lerp(p2, p3)];
  const [r0, r1] = [lerp(q0, q1), lerp(q1, q2)];
  const s = lerp(r0, r1);
  const out = points.map((p) => [...p]);
  out[segment].splice(4, 2, q0[0] - p0[0], q0[1] - p0[1]);
  const after = (segment + 1) % points.length;
  out[after].splice(2, 2, q2[0] - p3[0], q2[1] - p3[1]);
  out.splice(segment + 1, 0, [...s, r0[0] - s[0], r0[1] - s[1], r1[0] - s[0], r1[1] - s[1]]);
  return out;
}

/** The nearest point on an outline: segment, share along it, and distance. */
export function nearest(points, [x, y]) {
  let best = { distance: Infinity };
  points.forEach((a, segment) => {
    const b = points[(segment + 1) % points.length];
    for (let n = 0; n <= 20; n += 1) {
      const [px, py] = cubic(a, b, n / 20);
      const distance = Math.hypot(px - x, py - y);
      if (distance < best.distance) best = { segment, t: Math.min(Math.max(n / 20, 0.05), 0.95), distance };
    }
  });
  return best;
}

export function bounds(points) {
  const outline = flatten(points);
  const [xs, ys] = [outline.map((p) => p[0]), outline.map((p) => p[1])];
  return [Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)];
}
