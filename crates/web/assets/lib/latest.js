// Of several questions only the answer to the last one counts, whichever comes last.
import { ask } from './common.js';

export class Latest {
  /**
   * Asks, and gives up the question before.
   * @param {string} address
   * @returns {Promise<any>} the answer; nothing where another question has been asked meanwhile
   */
  async ask(address) {
    this.asking?.abort();
    const asking = new AbortController();
    this.asking = asking;
    try {
      const answer = await ask(address, { signal: asking.signal });
      return asking === this.asking ? answer : undefined;
    } catch (error) {
      if (asking !== this.asking) return undefined;
      throw error;
    }
  }
}
