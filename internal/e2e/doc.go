// Package e2e tries the whole service through its real interfaces: HTTP, the
// command line and the console in a browser, with PostgreSQL behind it and the
// stand-in printer on a pseudo-terminal before it. It holds tests only.
package e2e
