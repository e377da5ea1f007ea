// What is masked on a frame, as a texture: fetched as it is asked for, and kept.
import * as THREE from "three";

const KEPT = 160;

export class Masked {
  constructor(shot, loaded) {
    Object.assign(this, { shot, loaded });
    this.textures = new Map();
  }

  /** The texture of a frame, white where it is masked; null while it is under way. */
  want(frame, stamp) {
    const key = `${frame}?${stamp}`;
    if (!this.textures.has(key)) this.load(frame, key);
    return this.textures.get(key);
  }

  load(frame, key) {
    this.textures.set(key, null);
    new THREE.TextureLoader().load(
      `/shots/${this.shot}/masked/${key.replace("?", ".png?")}`,
      (map) => {
        map.generateMipmaps = false;
        map.minFilter = THREE.LinearFilter;
        this.textures.set(key, map);
        this.loaded();
      },
      undefined,
      () => this.textures.delete(key),
    );
    while (this.textures.size > KEPT) {
      const [oldest, map] = this.textures.entries().next().value;
      map?.dispose();
      this.textures.delete(oldest);
    }
  }
}
