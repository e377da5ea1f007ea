// What is new of a shot, from the one stream that all tabs of a browser share.

/** Call `hear(news)` with a shot's jobs and revision, as they stand and whenever they change. */
export function listen(shot, hear) {
  if (!window.SharedWorker) {
    new EventSource(`/events?shots=${shot}`).onmessage = (event) => hear(JSON.parse(event.data));
    return;
  }
  const worker = new SharedWorker("/static/desk/shell/stream.js", { name: "news" });
  worker.port.onmessage = (event) => hear(event.data);
  worker.port.postMessage({ shot });
  window.addEventListener("pagehide", () => worker.port.postMessage({ shot: null }));
  window.addEventListener("pageshow", (event) => event.persisted && worker.port.postMessage({ shot }));
}
