// A one-time link carries its code behind the '#', where no log sees it.
function enter(code) {
  document.getElementById('code').value = code
  document.getElementById('form').submit()
}

function send(path, body) {
  return fetch(document.documentElement.dataset.base + path, { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(body) })
    .then(answer => answer.json().then(said => {
      if (!answer.ok) throw new Error([said.title, said.detail].filter(Boolean).join(': '))
      return said
    }))
}

// Passkeys need a page that nobody can have changed on its way, and a browser that reads what the host offers.
const passkey = document.getElementById('passkey')
const able = window.isSecureContext && window.PublicKeyCredential && PublicKeyCredential.parseRequestOptionsFromJSON
if (passkey && able && passkey.dataset.has !== undefined) {
  const said = document.getElementById('passkey-said')
  passkey.hidden = false
  document.getElementById('by-passkey').addEventListener('click', () => {
    said.textContent = ''
    send('/passkeys', {})
      .then(offer => navigator.credentials.get({ publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(offer.options) }).then(signed => send('/passkeys/' + offer.ticket, signed.toJSON())))
      .then(() => location.assign(document.documentElement.dataset.base + '/'), failed => {
        said.textContent = failed.name === 'NotAllowedError' ? 'No passkey was chosen.' : failed.message
      })
  })
}

const code = location.hash.slice(1)
const pairing = document.getElementById('pairing')
if (code && document.getElementById('form')) {
  history.replaceState(null, '', location.pathname)
  enter(code)
} else if (pairing) {
  const said = document.getElementById('said')
  const ask = document.getElementById('ask')
  const shown = document.getElementById('shown')
  const over = text => {
    said.textContent = text
    shown.hidden = true
    ask.hidden = false
  }
  const wait = asked => setTimeout(() => send('/pairings/' + asked.id, { secret: asked.secret }).then(now => {
    if (now.state === 'waiting') wait(asked)
    else if (now.state === 'granted') enter(now.code)
    else over(now.state === 'denied' ? 'The answer was no.' : 'Nobody answered within five minutes.')
  }, failed => over(failed.message)), 1500)
  pairing.hidden = false
  ask.addEventListener('click', () => {
    said.textContent = ''
    send('/pairings', { name: 'browser', browser: true }).then(asked => {
      document.getElementById('letters').textContent = asked.letters
      ask.hidden = true
      shown.hidden = false
      wait(asked)
    }, failed => over(failed.message))
  })
}
