// Package rows holds the rows of lists as the store keeps them and the API tells them, and
// the types of their columns. It links no database, so that a client can have them.
package rows
