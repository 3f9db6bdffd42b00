/** The tab's icon: the product's own curve on the printer's colour. */
export const icon = (colour = '') => 'data:image/svg+xml,' + encodeURIComponent(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 32 32"><rect width="32" height="32" rx="7" fill="${colour || '#8f3a17'}"/><path d="M7 22c4-9 6-9 9-4s5 5 9-8" fill="none" stroke="#fff4ec" stroke-width="3.2" stroke-linecap="round"/></svg>`)
