// Of several questions only the answer to the last one counts, whichever comes last.

export class Latest {
  /**
   * Asks for JSON, and gives up the question before.
   * @param {string} address
   * @returns {Promise<any>} the answer; nothing where another question has been asked meanwhile
   */
  ask(address) {
    return this.answer(address, (answer) => answer.json());
  }

  /**
   * Asks for text, and gives up the question before.
   * @param {string} address
   * @param {RequestInit} [options]
   * @returns {Promise<string | undefined>} the answer; nothing where another question has been asked meanwhile
   */
  text(address, options) {
    return this.answer(address, (answer) => answer.text(), options);
  }

  async answer(address, read, options = {}) {
    this.asking?.abort();
    const asking = new AbortController();
    this.asking = asking;
    try {
      const answer = await fetch(address, { ...options, signal: asking.signal });
      if (!answer.ok) throw new Error((await answer.text()) || `The server answered ${answer.status}.`);
      const given = await read(answer);
      return asking === this.asking ? given : undefined;
    } catch (error) {
      if (asking !== this.asking) return undefined;
      throw error;
    }
  }
}
