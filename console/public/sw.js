/* Shows what the host tells while the console is closed, and opens the console when it is touched. */
'use strict'

self.addEventListener('push', event => {
  let n = { title: 'Diathermon', text: 'Something has happened.', kind: 'trial' }
  try { n = { ...n, ...event.data.json() } } catch { /* what cannot be read is told as such */ }
  event.waitUntil(self.registration.showNotification(String(n.title), {
    body: String(n.text), tag: `${n.printer} ${n.kind}`, renotify: true, requireInteraction: n.urgent === true, timestamp: Date.parse(n.at) || Date.now(), data: { kind: n.kind },
  }))
})

self.addEventListener('notificationclick', event => {
  event.notification.close()
  event.waitUntil(self.clients.matchAll({ type: 'window', includeUncontrolled: true }).then(open => {
    const page = open.find(c => c.url.startsWith(self.registration.scope))
    return page ? page.focus() : self.clients.openWindow(`${self.registration.scope}bench`)
  }))
})
