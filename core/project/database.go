package project

import "path"

// Database is a small database of the project: made of files when it is first used, changed by
// tools, and made anew when somebody asks for that.
type Database struct {
	Name   string
	Schema string            // the file with its CREATE statements
	Rows   map[string]string // the files with the first rows of its tables
	Place  Place
}

type rawDatabase struct {
	Schema string
	Rows   map[string]string
}

func (c *compiler) databases(list map[string]rawDatabase) {
	c.p.Databases = map[string]*Database{}
	for _, name := range keysOf(list) {
		at, r := "/databases/"+name, list[name]
		d := &Database{Name: name, Schema: c.inside(c.main, at+"/schema", r.Schema), Rows: map[string]string{}, Place: c.main.key(at)}
		if path.Ext(d.Schema) != ".sql" {
			c.report(Error, c.main.at(at+"/schema"), "Put its CREATE TABLE statements into a file .sql.", "%q is not a file of SQL", r.Schema)
		}
		for _, t := range keysOf(r.Rows) {
			d.Rows[t] = c.inside(c.main, at+"/rows/"+t, r.Rows[t])
			if ext := path.Ext(r.Rows[t]); ext != ".csv" && ext != ".tsv" && ext != ".json" {
				c.report(Error, c.main.at(at+"/rows/"+t), "", "the first rows of a table are a file .csv, .tsv or .json, not %q", ext)
			}
		}
		c.p.Databases[name] = d
	}
}

// Database gives a database of the project that the part names.
func (p *Part) Database(path, name string) *Database {
	d := p.c.p.Databases[name]
	if d == nil {
		p.c.missing(p.At(path), "database", name, keysOf(p.c.p.Databases))
	}
	return d
}
