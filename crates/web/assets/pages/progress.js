// How far a job is, at the bottom of the page.

export class Progress {
  /** @param page refreshes its parts and its desk */
  constructor(page) {
    this.page = page;
    this.asked = null;
    this.begun = null;
  }

  /** The log was fetched: it has the bar where a job runs. */
  again() {
    this.asked = null;
  }

  /** Takes an event of a job; whether the job goes on. */
  tell(e) {
    if (e.state !== 'queued' && e.state !== 'running') {
      this.begun = null;
      this.asked = null;
      return false;
    }
    const bar = document.getElementById('job-progress');
    if (!bar) {
      if (this.asked !== e.job) {
        this.asked = e.job;
        this.page.refreshParts();
        this.page.fetchDesk();
      }
      return true;
    }
    bar.value = e.progress;
    document.getElementById('job-share').textContent = `${Math.round(e.progress * 100)} %`;
    document.getElementById('job-message').textContent = e.message;
    this.begun ??= { at: performance.now(), from: e.progress };
    const passed = (performance.now() - this.begun.at) / 1000;
    const rate = (e.progress - this.begun.from) / passed;
    const left = Math.max(1, Math.round((1 - e.progress) / rate));
    const known = rate > 0 && passed > 1.5;
    document.getElementById('job-left').textContent = known ? `about ${left} s left` : '';
    return true;
  }
}
