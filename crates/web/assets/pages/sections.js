// The sections of a desk: their names below its head, one of them shown. Which one is remembered for each stage.

export class Sections {
  /**
   * @param {HTMLElement} desk
   * @param {() => void} changed  another section is shown
   */
  constructor(desk, changed) {
    this.desk = desk;
    this.changed = changed;
    /** the section that was shown last, by stage */
    this.shown = {};
    desk.addEventListener('click', (e) => {
      const tab = e.target instanceof Element && e.target.closest('[data-to-section]');
      if (tab instanceof HTMLElement) this.show(tab.dataset.toSection);
    });
    desk.addEventListener('keydown', (e) => {
      const way = { ArrowRight: 1, ArrowLeft: -1 }[e.key];
      if (!way || !(e.target instanceof HTMLElement) || !e.target.matches('[role=tab]')) return;
      e.preventDefault();
      this.step(way);
      this.tab(this.key)?.focus();
    });
  }

  get all() {
    return [.../** @type {NodeListOf<HTMLElement>} */ (this.desk.querySelectorAll('[data-section]'))];
  }

  /** The section that is shown. */
  get key() {
    return this.shown[this.stage];
  }

  tab(key) {
    return /** @type {HTMLElement | null} */ (this.desk.querySelector(`[data-to-section="${key}"]`));
  }

  /** The desk of a stage has been fetched anew. */
  begin(stage) {
    this.stage = stage;
    const { all } = this;
    const names = all.map(({ dataset: { section, title } }) => {
      const tab = Object.assign(document.createElement('button'), { type: 'button', textContent: title });
      tab.setAttribute('role', 'tab');
      tab.setAttribute('aria-controls', `section-${section}`);
      tab.id = `to-${section}`;
      tab.dataset.toSection = section;
      return tab;
    });
    for (const section of all) {
      section.id ||= `section-${section.dataset.section}`;
      section.setAttribute('role', 'tabpanel');
      section.setAttribute('aria-labelledby', `to-${section.dataset.section}`);
    }
    const list = this.desk.querySelector('.sections');
    list?.replaceChildren(...(names.length > 1 ? names : []));
    if (list instanceof HTMLElement) list.hidden = names.length < 2;
    const there = all.some((s) => s.dataset.section === this.key);
    this.open(there ? this.key : all[0]?.dataset.section);
  }

  open(key) {
    const before = this.key;
    this.shown[this.stage] = key;
    for (const section of this.all) section.hidden = section.dataset.section !== key;
    for (const tab of this.desk.querySelectorAll('[role=tab]')) {
      const here = tab instanceof HTMLElement && tab.dataset.toSection === key;
      tab.setAttribute('aria-selected', String(here));
      /** @type {HTMLElement} */ (tab).tabIndex = here ? 0 : -1;
    }
    const shown = this.all.find((s) => !s.hidden);
    shown?.dispatchEvent(new Event('section-shown'));
    return before !== key;
  }

  /** Shows a section. */
  show(key) {
    if (!this.all.some((s) => s.dataset.section === key)) return;
    if (this.open(key)) this.desk.scrollTop = 0;
    this.changed();
  }

  /** Shows the section that something stands in. */
  reveal(element) {
    const section = element.closest('[data-section]');
    if (section?.hidden) this.show(section.dataset.section);
  }

  /** Shows the next section (1) or the one before (-1). */
  step(way) {
    const { all } = this;
    if (!all.length) return;
    const at = all.findIndex((s) => s.dataset.section === this.key);
    this.show(all[(at + way + all.length) % all.length].dataset.section);
  }
}
