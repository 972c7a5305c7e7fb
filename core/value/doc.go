// Package value reads JSON as it goes through the service: as encoding/json makes
// it (RFC 8259), save that whole numbers stay exact. A float64 holds them up to
// 2^53; those beyond, such as long ids, are int64, as far as that goes.
package value
