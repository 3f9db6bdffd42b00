import { mdiAxisArrow, mdiCogOutline, mdiConsoleLine, mdiGauge, mdiThermometer, mdiTrayFull } from '@mdi/js'

/** The areas, in the order in which they lie in the bar and have their keys. */
export const areas = [
  { title: 'Bench', to: '/bench', icon: mdiGauge },
  { title: 'Shelf', to: '/shelf', icon: mdiTrayFull },
  { title: 'Heat', to: '/heat', icon: mdiThermometer },
  { title: 'Motion', to: '/motion', icon: mdiAxisArrow },
  { title: 'Wire', to: '/wire', icon: mdiConsoleLine },
  { title: 'Setup', to: '/setup', icon: mdiCogOutline },
]
