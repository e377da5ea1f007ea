// One stream of news for all tabs of a browser: it may keep only six connections open at a time.
const tabs = new Map();
const newest = new Map();
let source = null;
let followed = "";

function follow() {
  const shots = [...new Set(tabs.values())].sort((a, b) => a - b).join(",");
  if (shots === followed) return;
  followed = shots;
  source?.close();
  newest.clear();
  source = shots ? new EventSource(`/events?shots=${shots}`) : null;
  if (source) source.onmessage = tell;
}

function tell(event) {
  const news = JSON.parse(event.data);
  newest.set(news.shot, news);
  for (const [tab, shot] of tabs) if (shot === news.shot) tab.postMessage(news);
}

self.onconnect = (event) => {
  const [tab] = event.ports;
  tab.onmessage = ({ data }) => {
    if (data.shot === null) tabs.delete(tab);
    else {
      tabs.set(tab, data.shot);
      if (newest.has(data.shot)) tab.postMessage(newest.get(data.shot));
    }
    follow();
  };
};
