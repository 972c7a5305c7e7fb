// Package service is the HTTP API and the console's server, on Echo. The
// document openapi.yaml describes every call; errors are problem details (RFC
// 9457); live views are Server-Sent Events.
//
// It listens on loopback for one person. Requests that name another host, or
// that another site's page makes, are refused.
package service
