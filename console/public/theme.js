// Sets the theme before the first paint; a file of its own because the page allows no inline script.
(function () {
  var kept = null;
  try {
    kept = localStorage.getItem('theme');
  } catch {}
  var dark = kept ? kept === 'night-watch' : matchMedia('(prefers-color-scheme: dark)').matches;
  document.documentElement.dataset.theme = dark ? 'night-watch' : 'chart';
})();
