package cli

import (
	"context"
	"flag"

	"github.com/cli/browser"

	"stonebaton.example/internal/app"
)

// consoleLink gives the link that opens the console of a service of this machine with the
// key of its records. A browser sends no service what stands behind #.
func consoleLink(url, key string) string {
	if key == "" {
		return url
	}
	return url + "/#key=" + key
}

var consoleCommand = command{
	name: "console", most: 0, does: "print the link that opens the console on this machine, so that you may settle and build there", example: "stonebaton console\nstonebaton console -open",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		open := fs.Bool("open", false, "open it in a browser")
		return func(ctx context.Context, _ []string) error {
			c := k.client()
			me, err := c.Me(ctx)
			if err != nil {
				return err
			}
			key := ""
			if me.Local && !me.Keyless {
				key = app.KeyOf(c.URL())
			}
			link := consoleLink(c.URL(), key)
			k.print("%s\n", link)
			switch {
			case me.Keyless:
				k.note("It looks and talks alone: the key of the records is not to be found from here. It is in local.key, in the folder of the records, for whoever runs the service.\n")
			case !me.Local || key == "":
				k.note("One signs in there with a token.\n")
			}
			if *open {
				browser.Stdout = k.Err
				k.browse(link)
			}
			return nil
		}
	},
}

// browse opens a link in a browser, or says why not.
func (k *call) browse(link string) {
	browser.Stdout = k.Err // what the browser says is not the command's output
	if err := browser.OpenURL(link); err != nil {
		k.note("No browser could be started (%v); open %s\n", err, link)
	}
}
