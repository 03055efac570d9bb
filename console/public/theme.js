// Sets the theme before anything is drawn: as chosen here before, else as the system has it.
(function () {
  var chosen = localStorage.getItem('theme');
  var dark = chosen ? chosen === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches;
  document.documentElement.classList.toggle('dark', dark);
})();
