// The Terrain stage: files sent, preparation planned, pictures placed, how the ground is drawn.
import { notice, send } from '../../lib/common.js';
import { Backdrops } from '../../map/backdrops.js';
import { Preparing } from './preparing.js';

const ol = window.ol;

/** The outlines of the files that the DEM was put together from, and the lines along which they meet. */
function fileLayer(files, seams) {
  const stroke = (color, width, lineDash) => new ol.style.Stroke({ color, width, lineDash });
  const seam = [
    new ol.style.Style({ stroke: stroke('#FFFDF8', 4.5), zIndex: 1 }),
    new ol.style.Style({ stroke: stroke('#7C4E8C', 2.2), zIndex: 2 }),
  ];
  const named = (f) =>
    new ol.style.Style({
      stroke: stroke('#7C4E8C', 1.8, [10, 5]),
      text: new ol.style.Text({
        text: f.get('name'),
        placement: 'line',
        textBaseline: 'bottom',
        font: '600 12px "Source Sans 3"',
        fill: new ol.style.Fill({ color: '#4A2466' }),
        stroke: stroke('#FFFDF8', 3),
      }),
    });
  const style = (f) => (f.get('seam') ? seam : named(f));
  const features = files.map(
    (f) => new ol.Feature({ geometry: new ol.geom.LineString(f.ring), name: f.name }),
  );
  features.push(
    ...seams.map((line) => new ol.Feature({ geometry: new ol.geom.LineString(line), seam: true })),
  );
  return new ol.layer.Vector({ source: new ol.source.Vector({ features }), style });
}

/** The part of the page that is about Terrain. */
class Terrain {
  constructor(page) {
    this.page = page;
    this.preparing = new Preparing(page);
    this.backdrops = new Backdrops({
      ...page.parts,
      leave: page.leave,
      onClick: (text, then) => page.enter({ place: then }, text),
      onShown: page.shown,
    });
  }

  prepare() {
    this.preparing.prepare();
    this.backdrops.prepare();
    this.begunWith();
  }

  /**
   * A study that begins with a recipe: once its DEM is read, what of the recipe does not fit is looked at.
   * It stays chosen until it is taken up or another is, however often the desk is fetched meanwhile.
   */
  begunWith() {
    const mark = `recipe ${this.page.base}/`;
    const recipe = sessionStorage.getItem(mark);
    const form = this.page.desk.querySelector('#take-up-recipe');
    if (!recipe || !form) return;
    const forget = () => sessionStorage.removeItem(mark);
    form.addEventListener('change', forget);
    form.addEventListener('submit', forget);
    form.addEventListener(
      'htmx:afterSettle',
      () => {
        const select = form.querySelector('#recipe-of');
        if (!(select instanceof HTMLSelectElement)) return;
        select.value = `kept-${recipe}`;
        form.querySelector('#recipe-misfits').click();
      },
      { once: true },
    );
    if (this.looked === recipe) return;
    this.looked = recipe;
    this.page.sections.show('recipe');
  }

  moved() {
    this.preparing.extent();
  }
  left() {
    this.preparing.outline();
  }

  click(target) {
    const crs = target.closest('button.crs');
    if (!crs) return false;
    this.chooseCrs(crs);
    return true;
  }

  /** A CRS was chosen from the list: it is assigned, or offered to warp to. */
  async chooseCrs(button) {
    const list = button.closest('.crs-list');
    if (list.dataset.post) {
      send(list.dataset.post, { crs: button.dataset.crs });
      return;
    }
    const answer = await fetch(`${list.dataset.plan}?crs=${encodeURIComponent(button.dataset.crs)}`);
    const text = await answer.text();
    if (!answer.ok) {
      notice(text, true);
      return;
    }
    const form = list.closest('form');
    form.querySelector('#offer').innerHTML = text;
    list.closest('details').open = false;
    form.dispatchEvent(new Event('change'));
  }
}

export const terrain = {
  key: 'terrain',
  drawn: ['relief', 'files', 'cells'],
  layers: [
    {
      key: 'files',
      name: 'DEM files',
      place: 31,
      build: ({ data }) => (data.files?.length ? fileLayer(data.files, data.seams ?? []) : null),
      legend: (_map, legend) => legend.add('dashed: outlines; drawn through: seams'),
    },
  ],
  begin: (page) => new Terrain(page),
};
