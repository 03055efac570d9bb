// Package e2e tests Tavrin as its users meet it: a service on loopback, the stock git client, the command line and
// a browser. The promises P1 to P11 of docs/decisions/promises.md are named in the tests that hold them.
package e2e
