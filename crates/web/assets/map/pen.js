// Drawing on the map: features, lines to measure, changes of shape; with snapping to what is there.
import { notice, send } from '../lib/common.js';
import { ROLES, loadFeatures, shapeOf } from './features.js';

const ol = window.ol;

export class Pen {
  /** @param page gives base, map and desk, and enters and leaves modes */
  constructor(page) {
    this.page = page;
  }

  /** Whether something is being drawn. */
  get drawing() {
    return Boolean(this.pen);
  }

  /** Draws a feature of a role: a point, a line or a polygon. */
  feature(role) {
    const { shape, what, height } = ROLES[role];
    const keep = async (points) => {
      const elevation = height ? window.prompt('Its elevation in metres') : '';
      if (elevation === null) return;
      // What was drawn is seen.
      if (await send(`${this.page.base}/draw`, { role, line: JSON.stringify(points), elevation }))
        this.page.see(['features']);
    };
    if (shape === 'Point') {
      this.page.enter({ place: (at) => keep([at]) }, `Click ${what}. Esc leaves.`);
      return;
    }
    this.line(`Draw ${what}; double click or Enter ends it. Esc leaves.`, keep, shape);
  }

  /** A line, or the ring of a polygon, drawn on the map; `done` is given its points. */
  line(text, done, type = 'LineString') {
    const { map, layers } = this.page.map;
    if (!map) return;
    this.stop();
    const draw = new ol.interaction.Draw({ source: new ol.source.Vector(), type, stopClick: true });
    const sources = ['features', 'barriers'].map((key) => layers[key]?.getSource()).filter(Boolean);
    this.active = [draw, ...sources.map((source) => new ol.interaction.Snap({ source, pixelTolerance: 8 }))];
    for (const one of this.active) map.addInteraction(one);
    this.pen = draw;
    this.page.enter({ drawing: true }, text);
    draw.on('drawend', (e) => {
      const drawn = e.feature.getGeometry().getCoordinates();
      const points = type === 'Polygon' ? drawn[0] : drawn;
      // The click that ends it must not be taken for another.
      setTimeout(() => {
        this.stop();
        this.page.leave();
        done(points);
      }, 0);
    });
  }

  /** Features are reshaped and deleted on the map; each change is kept at once and can be undone. */
  edit() {
    const { map, layers } = this.page.map;
    const source = layers.features?.getSource();
    if (!map || !source) return;
    this.stop();
    // What is not drawn cannot be clicked.
    this.page.see(['features']);
    const select = new ol.interaction.Select({ layers: [layers.features], hitTolerance: 6 });
    const modify = new ol.interaction.Modify({ features: select.getFeatures(), pixelTolerance: 10 });
    this.active = [select, modify, new ol.interaction.Snap({ source, pixelTolerance: 8 })];
    for (const one of this.active) map.addInteraction(one);
    this.selected = select.getFeatures();
    this.page.enter(
      { drawing: true },
      'Click a feature and drag its corners; Alt and click takes a corner away, Delete the feature. Esc leaves.',
    );
    modify.on('modifyend', (e) => e.features.forEach((f) => this.reshape(f, JSON.stringify(shapeOf(f)))));
  }

  async reshape(feature, shape) {
    const address = `${this.page.base}/layers/${feature.get('layer')}/features/${feature.get('id')}`;
    // What was refused is shown as it was.
    if (!(await send(address, { shape }))) loadFeatures(this.page.map).catch((e) => notice(e.message, true));
  }

  deleteSelected() {
    const all = this.selected?.getArray().slice() ?? [];
    if (!all.length) return false;
    this.selected.clear();
    for (const feature of all) this.reshape(feature, '');
    return true;
  }

  /** A line anywhere, and the ground along it. */
  measure() {
    if (!this.page.map.layers.features) return;
    this.line('Draw a line to measure; double click or Enter ends it. Esc leaves.', async (line) => {
      const answer = await fetch(
        `${this.page.base}/profile?line=${encodeURIComponent(JSON.stringify(line))}`,
      );
      const html = await answer.text();
      if (!answer.ok) {
        notice(html, true);
        return;
      }
      document.getElementById('measured').innerHTML = html;
    });
  }

  /** Keys while something is drawn or reshaped. */
  key(e) {
    if (this.pen && ((e.ctrlKey && e.key === 'z') || e.key === 'Backspace')) {
      this.pen.removeLastPoint();
      return true;
    }
    const typing = e.target.closest('input, textarea, select');
    if ((e.key === 'Delete' || e.key === 'Backspace') && !typing && this.deleteSelected()) return true;
    if (this.pen && e.key === 'Enter') {
      this.pen.finishDrawing();
      return true;
    }
    return false;
  }

  click(target) {
    if (target.closest('[data-close-measured]')) {
      document.getElementById('measured').replaceChildren();
      this.page.map.point(null);
      return true;
    }
    if (target.closest('[data-edit]')) {
      this.edit();
      return true;
    }
    const draw = target.closest('[data-draw]');
    if (!draw) return false;
    this.feature(draw.dataset.draw || this.page.desk.querySelector('#layer-role').value);
    return true;
  }

  stop() {
    for (const one of this.active ?? []) this.page.map.map.removeInteraction(one);
    this.active = null;
    this.pen = null;
    this.selected = null;
  }
}
