// What stands in the scene as geometry: fetched when the scene is another, shared by the plate and the 3D view.
import * as THREE from "three";
import { get } from "../shell/api.js";

/** Make geometry of a solid as the server sends it: triangles with their normals, and lines. */
export function geometryOf({ vertices, faces, uv, lines }) {
  const position = new THREE.BufferAttribute(new Float32Array(vertices), 3);
  const sheet = new THREE.BufferGeometry();
  sheet.setAttribute("position", position);
  sheet.setAttribute("uv", new THREE.BufferAttribute(new Float32Array(uv), 2));
  sheet.setIndex(faces);
  // Corners that faces share would be shaded round.
  const flat = faces.length ? sheet.toNonIndexed() : sheet;
  if (faces.length) flat.computeVertexNormals();
  const wire = new THREE.BufferGeometry();
  wire.setAttribute("position", position);
  wire.setIndex(lines);
  return { sheet: flat, wire, empty: !faces.length };
}

export class Solids {
  constructor(desk) {
    this.desk = desk;
    this.known = "";
    this.things = new Map();
    this.spindle = null;
  }

  /** Fetch the solids where the scene is another than before. */
  async renew(server, attempt) {
    const now = JSON.stringify([server.scene, attempt?.id ?? 0, server.pinned ? 0 : [server.datum, server.lens_stamp]]);
    if (now === this.known) return;
    this.known = now;
    await this.look(server);
    const { proxies = {}, probes = {} } = server.scene ?? {};
    const kept = new Map([...this.things].map(([id, one]) => [id, one.picture]));
    const { solids, spindle } = await get(this.desk.at("world/solids.json"));
    for (const { sheet, wire } of this.things.values()) {
      sheet.dispose();
      wire.dispose();
    }
    this.spindle ??= geometryOf(spindle);
    const entries = [
      ...Object.entries(proxies).map(([id, thing]) => [id, thing, "proxies"]),
      ...Object.entries(probes).map(([id, thing]) => [id, thing, "probes"]),
    ];
    this.things = new Map(
      entries
        .filter(([id]) => solids[id])
        .map(([id, thing, part]) => [id, { id, thing, part, ...geometryOf(solids[id]) }]),
    );
    for (const one of this.things.values()) one.picture = this.picture(one, kept.get(one.id));
    this.desk.store.set({
      solids: { things: this.things, spindle: this.spindle, light: server.scene?.light ?? LIGHT },
    });
  }

  /** Before any solve: the camera that drawn lines tell, if they do. */
  async look(server) {
    const before = server.pinned ? null : await get(this.desk.at("world/before.json"));
    this.desk.store.set({ before: before?.world ? before : null });
  }

  /** A thing's texture, kept while it is the same one. */
  picture({ id, thing }, before) {
    if (!thing.texture) return null;
    if (before?.name === thing.texture) return before;
    const map = new THREE.TextureLoader().load(
      `${this.desk.at(`world/texture/${id}.png`)}?${thing.texture.slice(0, 8)}`,
      () => this.desk.store.set({ solids: { ...this.desk.state.solids } }),
    );
    map.anisotropy = 4;
    before?.map.dispose();
    return { name: thing.texture, map };
  }
}

/** Bearing and height of the light where nobody turned it, degrees. */
export const LIGHT = [35, 50];

/** The direction to the light from its bearing and height. */
export function lightFrom([bearing, height]) {
  const [b, h] = [bearing, height].map(THREE.MathUtils.degToRad);
  return new THREE.Vector3(Math.sin(b) * Math.cos(h), Math.sin(h), Math.cos(b) * Math.cos(h));
}
