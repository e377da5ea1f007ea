// Where a point of the world lies on the plate: the shader's lens, for the few points that are drawn by strokes.
import { coefficientsOf, trustedRadius } from "./lens_shader.js";
import { pinholeOf } from "./pinhole.js";

/** Return a function from a point of the world to plate pixels, or null behind the camera and far beyond the lens. */
export function seenBy(world, camera) {
  const r = camera.world_from_camera;
  const pinhole = pinholeOf(world, camera);
  const { fx, fy, cx, cy } = pinhole;
  const limit = trustedRadius(world.image, pinhole);
  const bend = bending(coefficientsOf(world.lens));
  return (xyz) => {
    const d = xyz.map((v, k) => v - camera.position[k]);
    const [x, y, z] = [0, 1, 2].map((j) => r[0][j] * d[0] + r[1][j] * d[1] + r[2][j] * d[2]);
    const n = [x / z, y / z];
    if (z <= 1e-9 || Math.hypot(...n) > limit) return null;
    const [u, v] = bend(...n);
    return [cx + fx * u, cy + fy * v];
  };
}

/** The direction in the world of a pixel's ray, as if no lens bent it. */
export function rayOf(world, camera, [px, py]) {
  const { fx, fy, cx, cy } = pinholeOf(world, camera);
  const q = [(px - cx) / fx, (py - cy) / fy, 1];
  return camera.world_from_camera.map((row) => row[0] * q[0] + row[1] * q[1] + row[2] * q[2]);
}

function bending(k) {
  const [c, s] = [Math.cos(k[6]), Math.sin(k[6])];
  return (x, y) => {
    if (k[5]) {
      const gain = 2 / (1 + Math.sqrt(Math.max(1 - 4 * k[5] * (x * x + y * y), 0)));
      return [gain * x, gain * y];
    }
    const [a, b] = [c * x + s * y, c * y - s * x];
    const [aa, bb, rr] = [a * a, b * b, a * a + b * b];
    const gain = 1 + rr * (k[0] + rr * (k[1] + rr * k[2]));
    const two = (n) => k[n] * aa + k[n + 1] * bb + k[n + 2] * aa * aa + k[n + 3] * aa * bb + k[n + 4] * bb * bb;
    const p = a * (gain + two(7)) + 2 * k[3] * a * b + k[4] * (rr + 2 * aa);
    const q = b * (gain + two(12)) + k[3] * (rr + 2 * bb) + 2 * k[4] * a * b;
    return [c * p - s * q, s * p + c * q];
  };
}
