// The key of a layer, under its name in the list of what is drawn.

/** Where a layer draws its key. */
export class Legend {
  constructor() {
    this.box = document.createElement('div');
    this.box.className = 'key';
  }

  /** A ramp of colours between two ends. */
  ramp(colours, left, right) {
    const canvas = document.createElement('canvas');
    canvas.width = 150;
    canvas.height = 9;
    const pen = canvas.getContext('2d');
    const gradient = pen.createLinearGradient(0, 0, 150, 0);
    colours.forEach((c, i) => gradient.addColorStop(i / (colours.length - 1), c));
    pen.fillStyle = gradient;
    pen.fillRect(0, 0, 150, 9);
    const ends = document.createElement('div');
    ends.className = 'ends';
    for (const text of [left, right])
      ends.append(Object.assign(document.createElement('span'), { textContent: text }));
    this.box.append(canvas, ends);
  }

  /** A line as it is drawn, and what it is. */
  line(color, width, text) {
    const row = Object.assign(document.createElement('p'), {
      className: 'line-key',
    });
    const canvas = Object.assign(document.createElement('canvas'), {
      width: 34,
      height: 12,
    });
    const pen = canvas.getContext('2d');
    pen.strokeStyle = color;
    pen.lineWidth = Math.min(width, 12);
    pen.lineCap = 'round';
    pen.beginPath();
    pen.moveTo(6, 6);
    pen.lineTo(28, 6);
    pen.stroke();
    row.append(canvas, text);
    this.box.append(row);
  }

  /** Words, or anything that is drawn already. */
  add(...what) {
    this.box.append(...what);
  }
}
