// Package people keeps who may use a service: in one file of its records, which people may
// also edit. Tokens are in it only as salted hashes. A book is read again when its file
// changes, so that a right that is taken away is gone with the next request.
package people
