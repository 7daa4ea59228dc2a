// What the pointer does on the page: parts moved and sized, the ground moved under a map, guides moved.
import { send } from '../lib/common.js';
import { lines, snapped } from './snapping.js';

/** A part is at least so large, mm. */
export const LEAST = 3;

export class Hold {
  constructor(editor) {
    this.editor = editor;
  }

  /** Follows the pointer until it is let go. */
  follow(event, moved, ended) {
    const from = this.editor.at(event);
    const target = event.target;
    target.setPointerCapture(event.pointerId);
    const by = (e) => {
      const now = this.editor.at(e);
      return [now[0] - from[0], now[1] - from[1]];
    };
    const move = (e) => moved(by(e), e);
    const end = (e) => {
      target.removeEventListener('pointermove', move);
      target.removeEventListener('pointerup', end);
      target.removeEventListener('pointercancel', end);
      ended(by(e), e);
    };
    target.addEventListener('pointermove', move);
    target.addEventListener('pointerup', end);
    target.addEventListener('pointercancel', end);
  }

  /** Takes hold of a part, or of one of its edges. */
  part(event, edge) {
    const { part, scale, paper, state } = this.editor;
    const element = paper.querySelector(`[data-part="${part.id}"]`);
    const all = lines(state, part.id);
    let now = { ...part };
    const changed = ([dx, dy], free) => {
      const { x, y, width, height } = part;
      const next = { x, y, width, height };
      if (!edge) {
        next.x += dx;
        next.y += dy;
      }
      if (edge.includes('e')) next.width = Math.max(LEAST, width + dx);
      if (edge.includes('s')) next.height = Math.max(LEAST, height + dy);
      if (edge.includes('w')) {
        next.x = Math.min(x + dx, x + width - LEAST);
        next.width = x + width - next.x;
      }
      if (edge.includes('n')) {
        next.y = Math.min(y + dy, y + height - LEAST);
        next.height = y + height - next.y;
      }
      return free ? { at: next, shown: [null, null] } : snapped(next, all, scale, edge);
    };
    this.follow(
      event,
      (by, e) => {
        const { at, shown } = changed(by, e.altKey);
        now = at;
        this.editor.place(element, at);
        this.showLines(shown);
      },
      async ([dx, dy]) => {
        this.showLines([null, null]);
        if (Math.hypot(dx, dy) * scale > 2 && !(await this.editor.put(now))) this.editor.draw();
      },
    );
  }

  /** Shows the lines that a part has snapped to. */
  showLines(shown) {
    const { paper, state } = this.editor;
    paper.querySelectorAll('.snap').forEach((line) => line.remove());
    shown.forEach((mm, axis) => {
      if (mm === null) return;
      const line = document.createElement('div');
      line.className = `snap ${axis ? 'across' : 'upright'}`;
      const { width, height } = state.page;
      line.style[axis ? 'top' : 'left'] = `${(100 * mm) / (axis ? height : width)}%`;
      paper.append(line);
    });
  }

  /** Drags the ground under a map: what is seen moves along until the sheet is drawn anew. */
  ground(event) {
    const { part, scale, paper, print, base } = this.editor;
    const ghost = document.createElement('div');
    ghost.className = 'ghost';
    this.editor.place(ghost, part);
    const picture = print.cloneNode();
    picture.removeAttribute('id');
    picture.style.width = `${paper.clientWidth}px`;
    const put = ([dx, dy]) => {
      picture.style.left = `${(dx - part.x) * scale}px`;
      picture.style.top = `${(dy - part.y) * scale}px`;
    };
    put([0, 0]);
    ghost.append(picture);
    paper.append(ghost);
    this.follow(event, put, async ([right, down]) => {
      if (Math.hypot(right, down) * scale > 2) await send(`${base}/parts/${part.id}/look`, { right, down });
      ghost.remove();
    });
  }

  /** Draws a box that is to fill the map. */
  box(event) {
    const { editor } = this;
    const { part, paper, base } = editor;
    const from = editor.at(event);
    const frame = document.createElement('div');
    frame.className = 'drawn-box';
    paper.append(frame);
    const corner = ([dx, dy]) => [from[0] + dx, from[1] + dy];
    const put = (by) => {
      const to = corner(by);
      const [x, y] = [0, 1].map((i) => Math.min(from[i], to[i]));
      const [width, height] = [0, 1].map((i) => Math.abs(to[i] - from[i]));
      editor.place(frame, { x, y, width, height });
    };
    this.follow(event, put, async (by) => {
      frame.remove();
      if (Math.min(...by.map(Math.abs)) < 1) return;
      await send(`${base}/parts/${part.id}/look`, { points: JSON.stringify([from, corner(by)]) });
    });
  }

  /** Moves a guide; off the page it is removed. */
  guide(event, line) {
    const axis = Number(line.dataset.axis);
    const index = Number(line.dataset.at);
    const { page, guides: all } = this.editor.state;
    const most = axis ? page.height : page.width;
    const was = all[axis][index];
    const to = (by) => was + by[axis];
    const show = (by) => {
      line.style[axis ? 'top' : 'left'] = `${(100 * to(by)) / most}%`;
    };
    this.follow(event, show, (by) => {
      const guides = all.map((places) => places.slice());
      const mm = Math.round(to(by) * 10) / 10;
      if (mm < 0 || mm > most) guides[axis].splice(index, 1);
      else guides[axis][index] = mm;
      this.editor.setGuides(guides);
    });
  }
}
