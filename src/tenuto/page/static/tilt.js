// The tilt of a phone as a stick: by the direction of gravity, so that no attitude makes it jump or reverse.

// The timeout, the angle for a stick at its end, and the angle beyond which nobody tilts a phone to drive.
const SILENT_MS = 500;
const END_DEG = 30;
const MOST_DEG = 75;
// Two readings in a row that are farther apart than this are a jump, not a hand.
const JUMP_DEG = 40;

const rad = (degrees) => (degrees * Math.PI) / 180;
const clamp = (value) => Math.max(-1, Math.min(1, value));

// The direction of up along the screen's own axes: x to its right, y to its top, z out of it. beta and gamma are the
// angles of the W3C DeviceOrientation event, screen is the rotation of the picture; degrees.
export function upOf(beta, gamma, screen) {
  const [b, g, s] = [rad(beta), rad(gamma), rad(screen)];
  const [x, y, z] = [-Math.sin(g) * Math.cos(b), Math.sin(b), Math.cos(b) * Math.cos(g)];
  return [x * Math.cos(s) - y * Math.sin(s), x * Math.sin(s) + y * Math.cos(s), z];
}

export function angleBetween(a, b) {
  return (Math.acos(clamp(a[0] * b[0] + a[1] * b[1] + a[2] * b[2])) * 180) / Math.PI;
}

// The tilt between two directions of up, degrees: to the front and to the left positive, whatever the first one is.
export function tiltFrom(zero, up) {
  // The shortest rotation of the first one to the z axis, applied to the second one.
  const [a, b, c] = zero;
  const along = (up[0] * b - up[1] * a) / (1 + c);
  const x = c * up[0] - a * up[2] + along * b;
  const y = c * up[1] - b * up[2] - along * a;
  const size = Math.hypot(x, y);
  if (size < 1e-9) return { front: 0, left: 0 };
  const angle = angleBetween(zero, up);
  return { front: (-angle * y) / size, left: (angle * x) / size };
}

export class Tilt {
  // Begin to hear the sensor, if the person permits it; null otherwise.
  static async begin(changed, release) {
    if (typeof DeviceOrientationEvent?.requestPermission === "function") {
      if ((await DeviceOrientationEvent.requestPermission()) !== "granted") return null;
    }
    return new Tilt(changed, release);
  }

  constructor(changed, release) {
    Object.assign(this, { changed, release, zero: null, up: null, screen: 0, x: 0, y: 0, heard: false, wrong: "" });
    this.at = performance.now();
    this.hear = (event) => this.take(event.beta, event.gamma, screen.orientation?.angle ?? 0);
    addEventListener("deviceorientation", this.hear);
  }

  end() {
    removeEventListener("deviceorientation", this.hear);
  }

  // Take a reading. After a rotation of the picture or a jump everything is released, and the present attitude is rest.
  take(beta, gamma, turned) {
    if (beta === null || gamma === null) return;
    const up = upOf(beta, gamma, turned);
    const jumped = this.up !== null && (turned !== this.screen || angleBetween(this.up, up) > JUMP_DEG);
    if (jumped) {
      this.release();
      this.zero = null;
    }
    Object.assign(this, { up, screen: turned, at: performance.now(), heard: true });
    if (up[2] < 0.1 && this.zero === null) {
      this.wrong = "the phone stands on its edge or lies on its face: hold it flat";
      this.x = this.y = 0;
    } else {
      this.zero ??= up;
      const { front, left } = tiltFrom(this.zero, up);
      this.wrong = Math.hypot(front, left) > MOST_DEG ? "the phone is tilted too far" : "";
      if (this.wrong) this.release();
      this.y = this.wrong ? 0 : clamp(front / END_DEG);
      this.x = this.wrong ? 0 : clamp(left / END_DEG);
    }
    this.changed();
  }

  // Why nobody may drive with it now; empty if all is well.
  problem() {
    if (performance.now() - this.at > SILENT_MS) return this.heard ? "the phone sends no tilt" : "this device has no tilt sensor";
    return this.wrong;
  }
}
