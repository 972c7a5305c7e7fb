package sql

// Dir is the project's folder.
func (h *Handler) Dir() string { return h.dir }
