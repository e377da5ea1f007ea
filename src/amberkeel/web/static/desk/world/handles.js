// Handles on the plate and in 3D: the world's own axes, dragged to where they belong, or the chosen thing.
import * as THREE from "three";
import { find } from "../shell/dom.js";
import { cameraAt, reachOf } from "../viewport/overglass.js";
import { rayOf, seenBy } from "../viewport/seen_by.js";
import { changed, Drag, drawGimbal, drawLevel, NOTHING, partAt, saidAt } from "./gimbal.js";

/** How long a spar is on the screen, pixels. */
const SPAR_PX = 92;

const UPRIGHT = [
  [1, 0, 0],
  [0, 1, 0],
  [0, 0, 1],
];

export class Handles {
  constructor(desk) {
    this.desk = desk;
    /** The drag under way and the view that it is in, and the part under the pointer. */
    this.drag = null;
    this.view = null;
    this.over = null;
    /** Where the world's axes are taken hold of, while the handles are shown. */
    this.foot = null;
    this.actions = [
      {
        id: "handles",
        name: "World: handles on the axes, or on the chosen thing",
        keys: "Shift T",
        run: () => this.toggle(),
      },
    ];
  }

  get shown() {
    const { stage, world, attempt } = this.desk.state;
    return stage === "world" && world.handles && Boolean(attempt) && Boolean(this.target);
  }

  /** What is taken hold of: the chosen thing of the bench that is open, or the world. */
  get target() {
    const { world, server } = this.desk.state;
    if (world.bench === "datum") return { part: "datum" };
    const thing = server?.scene?.[world.bench]?.[world.chosen];
    return thing && !thing.locked ? { part: world.bench, id: world.chosen, thing } : null;
  }

  toggle() {
    const { store, state } = this.desk;
    this.desk.goStage("world");
    const { bench, handles } = state.world;
    this.foot = null;
    const held = ["datum", "proxies", "probes"].includes(bench);
    const shown = { handles: !handles || !held, bench: held ? bench : "datum" };
    store.set({ world: { ...state.world, ...shown, tool: null, under: null, hover: null } });
    if (bench === "datum") find("#byhand").open = true;
  }

  /** On another frame, or in another world, the axes are taken hold of where they are seen. */
  renew() {
    if (!this.drag) this.foot = null;
  }

  /** Where the target stands, without its size on the screen. */
  pose() {
    const { target } = this;
    if (!target) return null;
    if (target.part === "datum") {
      this.foot ??= this.footOf();
      return { at: this.foot, axes: UPRIGHT, length: 1 };
    }
    const turn = turnOf(target.thing.turn);
    const axes = UPRIGHT.map((axis) => new THREE.Vector3(...axis).applyMatrix4(turn).toArray());
    return { at: target.thing.position ?? [0, 0, 0], axes, length: 1 };
  }

  get reach() {
    return reachOf(this.desk.state.attempt.world);
  }

  /** The origin where it is in the picture, or else the ground under the picture's middle. */
  footOf() {
    const { attempt, frame, width, height } = this.desk.state;
    const camera = cameraAt(attempt, frame) ?? attempt.world.frames[0];
    const seen = seenBy(attempt.world, camera)([0, 0, 0]);
    if (seen && seen[0] > 0 && seen[0] < width && seen[1] > 0 && seen[1] < height) return [0, 0, 0];
    const ray = rayOf(attempt.world, camera, [width / 2, 0.7 * height]);
    const far = ray[1] < -1e-3 ? -camera.position[1] / ray[1] : Number.POSITIVE_INFINITY;
    const most = 3 * this.reach;
    const reach = far > 0 && far < most ? far : most / 3;
    return camera.position.map((v, k) => v + reach * ray[k]);
  }

  /** The plate's projection onto the screen on this frame, null without a camera. */
  get plate() {
    const { attempt, frame } = this.desk.state;
    const camera = attempt && cameraAt(attempt, frame);
    if (!camera) return null;
    const seen = seenBy(attempt.world, camera);
    return (xyz) => {
      const p = seen(xyz);
      return p && this.desk.viewport.toScreen(...p);
    };
  }

  /** A pose whose spars are of one length on the screen. */
  sized(pose, project) {
    const middle = project(pose.at);
    if (!middle) return null;
    const step = 1e-4 * this.reach;
    const away = UPRIGHT.map((axis) => {
      const p = project(pose.at.map((v, k) => v + step * axis[k]));
      return p ? Math.hypot(p[0] - middle[0], p[1] - middle[1]) / step : 0;
    });
    const long = Math.max(...away);
    return long > 0 ? { ...pose, length: SPAR_PX / long } : null;
  }

  /** Take hold of what lies under the pointer. */
  down(at, project, view) {
    if (!this.shown || !project) return false;
    const pose = this.sized(this.pose(), project);
    const part = pose && partAt(pose, project, at);
    if (!part) return false;
    this.drag = new Drag(pose, part, project, at);
    this.view = view;
    return true;
  }

  move(event, at, project, view) {
    if (!this.shown || !project) return;
    if (this.drag && this.view === view) {
      this.drag.to(at, project, event.shiftKey);
      this.ghost();
      return;
    }
    const pose = this.sized(this.pose(), project);
    const part = pose && partAt(pose, project, at);
    if (part?.kind === this.over?.kind && part?.axis === this.over?.axis) return;
    this.over = part;
    this.redraw();
  }

  redraw() {
    this.desk.viewport.redraw();
    this.desk.space?.scene?.redraw();
  }

  /** Show the chosen thing where it is dragged to. */
  ghost() {
    const { store, state } = this.desk;
    const { target } = this;
    if (target.part === "datum") return this.redraw();
    const before = matrixOf(this.drag.pose);
    const after = matrixOf(changed(this.drag.pose, this.drag.change));
    const matrix = after.multiply(before.invert());
    return store.set({ world: { ...state.world, ghost: { id: target.id, matrix } } });
  }

  /** Let go: one edit, or none where nothing was moved. */
  async up() {
    const { drag } = this;
    this.drag = null;
    if (!drag) return;
    const { change } = drag;
    if (change !== NOTHING) await (this.target.part === "datum" ? this.setDatum(change) : this.setThing(drag));
    const { store, state } = this.desk;
    if (state.world.ghost) store.set({ world: { ...state.world, ghost: null } });
    this.redraw();
  }

  cancel() {
    if (!this.drag) {
      if (!this.shown) return false;
      this.toggle();
      return true;
    }
    this.drag = null;
    const { store, state } = this.desk;
    store.set({ world: { ...state.world, ghost: null } });
    return true;
  }

  /** The axes went there: the scene turns, moves and grows the other way. */
  setDatum({ axis, radians, move, scale }) {
    const { foot } = this;
    // About the foot: x' = ((x - foot - move) turned back) / scale + foot.
    const back = new THREE.Matrix4();
    if (axis !== null) back.makeRotationAxis(new THREE.Vector3(...UPRIGHT[axis]), -radians);
    const turned = new THREE.Vector3(...foot.map((v, k) => v + move[k])).applyMatrix4(back);
    const by = foot.map((v, k) => v - turned.getComponent(k) / scale);
    return this.desk.send("datum", {
      what: "nudge",
      axis: axis === null ? "" : "xyz"[axis],
      degrees: axis === null ? "" : figure(-THREE.MathUtils.radToDeg(radians)),
      scale: figure(1 / scale),
      move: by.map(figure),
    });
  }

  setThing({ pose, change, part }) {
    const { target } = this;
    const after = changed(pose, change);
    const kept = target.thing.size ?? [1, 1, 1];
    const turn = change.axis === null ? (target.thing.turn ?? [0, 0, 0]) : degreesOf(after.axes);
    const word = { turn: "Turn", size: "Scale" }[part.kind] ?? "Move";
    return this.desk.send("world/scene", {
      [target.part]: { [target.id]: { position: after.at, turn, size: kept.map((v) => v * change.scale) } },
      label: `${word} ${target.thing.name}`,
    });
  }

  /** Draw over a view; `view` is plate or space. */
  draw(c, project, view) {
    if (!this.shown || !project) return;
    const dragged = this.drag;
    const pose = this.sized(dragged ? dragged.pose : this.pose(), project);
    if (!pose) {
      if (view === "plate") saidAt(c, [0, 60], ["The handles are out of this picture."]);
      return;
    }
    const after = dragged ? changed(pose, dragged.change) : pose;
    if (this.target.part === "datum") {
      const cell = 10 ** Math.round(Math.log10(this.reach / 12));
      drawLevel(c, after, project, cell * (dragged?.change.scale ?? 1));
    }
    drawGimbal(c, { ...after, length: pose.length }, project, dragged?.part ?? this.over);
    if (!dragged) return;
    const at = project(after.at);
    const unit = this.desk.state.attempt.told?.from.scale ? "m" : "units";
    if (at) saidAt(c, at, dragged.words(unit));
  }
}

/** A figure as somebody types it. */
function figure(value) {
  return String(Number(value.toFixed(7)));
}

/** Turned about X, then Y, then Z, all of them the world's. */
function turnOf(degrees = [0, 0, 0]) {
  const [x, y, z] = degrees.map(THREE.MathUtils.degToRad);
  return new THREE.Matrix4().makeRotationFromEuler(new THREE.Euler(x, y, z, "ZYX"));
}

function degreesOf(axes) {
  const m = new THREE.Matrix4().makeBasis(...axes.map((axis) => new THREE.Vector3(...axis)));
  const { x, y, z } = new THREE.Euler().setFromRotationMatrix(m, "ZYX");
  return [x, y, z].map((v) => Number(THREE.MathUtils.radToDeg(v).toFixed(6)));
}

/** A pose as a matrix: its axes by its length, at its place. */
function matrixOf({ at, axes, length }) {
  const m = new THREE.Matrix4().makeBasis(...axes.map((axis) => new THREE.Vector3(...axis).multiplyScalar(length)));
  return m.setPosition(...at);
}
