// A one-time link carries its code behind the '#', where no log sees it.
const code = location.hash.slice(1)
if (code) {
  history.replaceState(null, '', location.pathname)
  document.getElementById('code').value = code
  document.getElementById('form').submit()
}
