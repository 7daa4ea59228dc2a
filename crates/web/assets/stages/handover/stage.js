// The Handover stage: the model scheme, and the proof run on the package.
import { query } from '../../lib/common.js';
import { Latest } from '../../lib/latest.js';
import { fillPart } from '../../lib/part.js';

class Handover {
  constructor(page) {
    this.page = page;
    this.told = new Latest();
    this.proved = new Latest();
    this.compared = new Latest();
    for (const event of ['scheme-changed', 'points-changed', 'subbasins-changed', 'measures-changed'])
      document.body.addEventListener(event, () => {
        if (event === 'scheme-changed') page.refreshParts();
        if (page.stage === 'handover' && page.sections.key === 'scheme') this.scheme();
      });
    page.desk.addEventListener(
      'section-shown',
      (e) => e.target.dataset?.section === 'scheme' && this.scheme(),
      true,
    );
    // A sheet of what the map shows: its layers, the lowest first.
    page.desk.addEventListener('htmx:configRequest', (e) => {
      if (e.target.id !== 'sheet-of-map') return;
      const { map } = page;
      e.detail.parameters.layers = map
        .order()
        .filter((key) => map.shown.has(key))
        .join(',');
    });
    page.desk.addEventListener('submit', (e) => {
      if (!['proof-form', 'kept-form'].includes(e.target.id)) return;
      e.preventDefault();
      const given = Object.fromEntries(new FormData(e.target));
      if (e.target.id === 'proof-form') this.prove(given);
      else this.compare(given);
    });
  }

  /** A nexus of the schematic, or of the peaks, leads to its place. */
  click(target) {
    const nexus = target.closest('.schematic [data-nexus]');
    if (!nexus) return false;
    this.page.map.goTo(Number(nexus.dataset.x), Number(nexus.dataset.y), true, 8);
    return true;
  }

  /** The scheme on the desk. */
  scheme() {
    return fillPart('scheme', this.told, `${this.page.base}/scheme/told`, 'Putting the scheme together…');
  }

  /** What changed from one package to another, with the storm of the proof run. */
  async compare(pair) {
    const form = document.getElementById('proof-form');
    const storm = form instanceof HTMLFormElement ? Object.fromEntries(new FormData(form)) : {};
    const address = `${this.page.base}/packages/compared?${query({ ...storm, ...pair })}`;
    await fillPart('compared', this.compared, address, 'Comparing…');
  }

  /** Runs a storm through the package. */
  async prove(storm) {
    const done = await fillPart(
      'proof',
      this.proved,
      `${this.page.base}/proof/told?${query(storm)}`,
      'Running…',
    );
    if (done) document.getElementById('proof').scrollIntoView({ block: 'nearest' });
  }
}

export const handover = {
  key: 'handover',
  drawn: ['relief', 'streams', 'catchments', 'cells'],
  layers: [],
  begin: (page) => new Handover(page),
};
