// Package service is the HTTP API and the console's server, on Echo. The
// document openapi.yaml describes every call; errors are problem details (RFC
// 9457); live views are Server-Sent Events.
//
// Who asks is said in who.go: on loopback, where there are no people, the local
// person; else somebody with a token, a sign-in, a link, or an application that
// speaks for them. The document says which right a call needs. What is another's
// is not there. Requests that another site's page makes are refused, and on loopback
// those that name another host.
package service
