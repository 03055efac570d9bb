package cli

import (
	"context"
	"fmt"
	"io"
	"path/filepath"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

// key registers the public keys by which one signs commits.
func (p *program) key() *cobra.Command {
	var name, login string
	add := answer(p, "add FILE", "Register a public SSH key of yours, from a file that ends in .pub",
		cobra.ExactArgs(1), func(ctx context.Context, c *client.Client, args []string) (wire.Key, error) {
			text, err := p.readFile(args[0])
			if err != nil {
				return wire.Key{}, err
			}
			if name == "" {
				name = filepath.Base(args[0])
			}
			return c.AddKey(ctx, name, text)
		}, func(w io.Writer, k wire.Key) {
			row(w, fmt.Sprintf("registered %s %s; sign with: git config gpg.format ssh, user.signingkey FILE, "+
				"commit.gpgsign true", k.Kind, k.Fingerprint))
		})
	add.Flags().StringVar(&name, "name", "", "what you call it (default: the file's name)")
	list := answer(p, "list", "List a person's keys", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, _ []string) ([]wire.Key, error) {
			return c.Keys(ctx, login)
		}, func(w io.Writer, keys []wire.Key) {
			row(w, "KEY", "NAME", "KIND", "FINGERPRINT", "SINCE")
			for _, k := range keys {
				row(w, k.ID, k.Name, k.Kind, k.Fingerprint, ago(k.CreatedAt))
			}
		})
	list.Flags().StringVar(&login, "login", "", "whose (default: yours)")
	return group("key", "Register the keys by which you sign commits", add, list,
		answer(p, "remove KEY", "Remove a key; what it signed no longer counts", cobra.ExactArgs(1),
			func(ctx context.Context, c *client.Client, args []string) (nothing, error) {
				id, err := number(args[0], "a key; see tavrin key list")
				if err != nil {
					return nothing{}, err
				}
				return nothing{}, c.RemoveKey(ctx, id)
			}, silent[nothing]))
}
