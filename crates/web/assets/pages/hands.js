// A desk is not exchanged under the hands of the person who fills it in.

const WRITTEN = 'input[type=text], input:not([type]), input[type=number], input[type=search], textarea';

/** @returns {Element | null} the field with the keyboard, where it stands on the desk */
const focused = (desk) => (desk.contains(document.activeElement) ? document.activeElement : null);

export class Hands {
  /**
   * @param {HTMLElement} desk
   * @param {() => void} again  fetches the desk anew
   */
  constructor(desk, again) {
    this.desk = desk;
    this.again = again;
    /** changes that were made so far: an answer that was asked for before the last one is old */
    this.made = 0;
    /** what was last sent of a field */
    this.sent = new WeakMap();
    this.waits = false;
    /** changes that are on their way */
    this.sending = new Set();
    desk.addEventListener(
      'change',
      (e) => {
        this.made += 1;
        this.sent.set(e.target, e.target.value);
      },
      true,
    );
    desk.addEventListener('focusout', () => this.rested());
    // What only asks changes nothing, and may take long.
    desk.addEventListener('htmx:beforeRequest', (e) => {
      const { xhr, requestConfig } = /** @type {CustomEvent} */ (e).detail;
      if (requestConfig?.verb !== 'get') this.sending.add(xhr);
    });
    document.body.addEventListener('htmx:afterRequest', (e) => {
      this.sending.delete(/** @type {CustomEvent} */ (e).detail.xhr);
      this.rested();
    });
  }

  /** Whether something is half typed, or on its way. */
  get busy() {
    if (this.sending.size) return true;
    const field = focused(this.desk);
    if (!field?.matches(WRITTEN)) return false;
    return field.value !== (this.sent.get(field) ?? field.defaultValue);
  }

  /** Once nothing is half typed, the desk that was put off is fetched. */
  rested() {
    if (!this.waits) return;
    setTimeout(() => {
      if (this.waits && !this.busy) this.again();
    }, 50);
  }

  /**
   * Exchanges the desk unless the person is at it; then it is fetched again later.
   * @param {number} asked  how many changes had been made when it was asked for
   * @param {() => void} exchange
   */
  exchange(asked, exchange) {
    this.waits = this.busy || asked !== this.made;
    if (this.waits) {
      this.rested();
      return false;
    }
    const field = focused(this.desk);
    const held = field?.id && field.matches(':focus-visible') ? field.id : null;
    exchange();
    if (held) document.getElementById(held)?.focus({ preventScroll: true });
    return true;
  }
}
