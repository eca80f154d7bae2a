// Where the pages lie, for the search that MkDocs brings; and light or dark as chosen on the screens.
var base_url = document.documentElement.dataset.base;
try {
  var scheme = localStorage.getItem("mantine-color-scheme-value");
  if (scheme === "light" || scheme === "dark") document.documentElement.dataset.scheme = scheme;
} catch {
  // A browser that keeps nothing follows the system.
}
addEventListener("DOMContentLoaded", () => {
  const query = document.getElementById("mkdocs-search-query");
  const found = document.getElementById("found");
  query.disabled = false;
  query.form.addEventListener("submit", (event) => event.preventDefault());
  query.addEventListener("input", () => {
    found.hidden = query.value.trim().length < 3;
  });
  // What was typed before the index was ready is searched for then.
  searchWorker.addEventListener("message", (event) => {
    if (event.data.allowSearch) query.dispatchEvent(new KeyboardEvent("keyup"));
  });
  query.addEventListener("keydown", (event) => {
    if (event.key === "Enter") found.querySelector("a")?.focus();
    if (event.key === "Escape") {
      query.value = "";
      found.hidden = true;
    }
  });
});
