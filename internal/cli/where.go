package cli

import (
	"context"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"

	"tavrin/client"
	"tavrin/internal/core/near"
)

// client makes a client of the service: the one that --url or TAVRIN_URL names, or that of the clone at hand.
func (p *program) client() (*client.Client, error) {
	address := p.url
	if address == "" {
		address, _ = ofClone()
	}
	return client.New(address, p.token)
}

// remote is where a clone comes from: a service and the name of a repository there.
type remote struct{ service, repo string }

// remotes lists where the clone at hand comes from, origin first; nothing outside a clone.
func remotes() []remote {
	out, err := exec.Command("git", "remote", "-v").Output()
	if err != nil {
		return nil
	}
	var all []remote
	for line := range strings.Lines(string(out)) {
		f := strings.Fields(line)
		if len(f) < 2 {
			continue
		}
		r, ok := splitRemote(f[1])
		switch {
		case !ok || slices.Contains(all, r):
		case f[0] == "origin":
			all = slices.Insert(all, 0, r)
		default:
			all = append(all, r)
		}
	}
	return all
}

// splitRemote takes a remote's address apart.
func splitRemote(address string) (r remote, ok bool) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" {
		return r, false
	}
	u.User = nil
	at := strings.LastIndex(u.Path, "/git/")
	if at < 0 {
		return r, false
	}
	r.repo = strings.TrimSuffix(strings.TrimRight(u.Path[at+len("/git/"):], "/"), ".git")
	u.Path, u.RawPath, u.RawQuery, u.Fragment = u.Path[:at], "", "", ""
	r.service = u.String()
	return r, strings.Count(r.repo, "/") == 1
}

// ofClone returns the service that the clone at hand comes from, when the caller trusts it with a token. Anybody can have
// one clone from an address of theirs, and a command run in there must not hand them the token. So the address counts only
// when the caller's own configuration of git gives it the token: "credential.ADDRESS.helper". strange is an address that
// would have been taken.
func ofClone() (address, strange string) {
	for _, r := range remotes() {
		if r.service == client.DefaultURL || trusted(r.service) {
			return r.service, ""
		}
		if strange == "" {
			strange = r.service
		}
	}
	return "", strange
}

// trusted says whether git gives this program's token to a service.
func trusted(service string) bool {
	out, err := exec.Command("git", "config", "--get-all", "credential."+service+".helper").Output()
	if err != nil {
		return false // it says nothing of it
	}
	return slices.ContainsFunc(strings.Split(string(out), "\n"), func(helper string) bool {
		return strings.HasSuffix(strings.TrimSpace(helper), " credential")
	})
}

// here finds the repository that the command is about: the one that was named, or that of a remote.
func (p *program) here(ctx context.Context, c *client.Client) (here, error) {
	switch strings.Count(p.repo, "/") {
	case 1:
		return here{c, p.repo}, nil
	case 0:
		if p.repo == "" {
			break
		}
		fallthrough
	default:
		var known []string
		if repos, err := c.Repositories(ctx); err == nil { // it only helps
			for _, r := range repos {
				known = append(known, r.Name)
			}
		}
		return here{}, misuse("--repo is HOUSE/NAME, not %q%s", p.repo, near.Meant(p.repo, known))
	}
	for _, r := range remotes() {
		if r.service == c.URL() {
			return here{c, r.repo}, nil
		}
	}
	if _, strange := ofClone(); strange != "" && p.url == "" {
		return here{}, misuse("this clone is of %s, which nothing says to be yours; if it is: git config credential.%s.helper "+
			"'!tavrin credential', or --url %s", strange, strange, strange)
	}
	return here{}, misuse("which repository? Give --repo HOUSE/NAME, or run this in a clone of one from %s", c.URL())
}

// gitWithToken makes a git command that gets the token for the service from this program, and from no other helper.
func gitWithToken(ctx context.Context, c *client.Client, args ...string) (*exec.Cmd, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, "git", append([]string{"-c", "credential.helper=",
		"-c", "credential.helper=" + helperAt(self)}, args...)...)
	cmd.Env = append(os.Environ(), "TAVRIN_URL="+c.URL(), "GIT_TERMINAL_PROMPT=0")
	return cmd, nil
}

// helperAt is how git's configuration names this program as a credential helper.
func helperAt(program string) string {
	if !strings.ContainsFunc(program, func(r rune) bool { return !strings.ContainsRune("/._-", r) && !alphanumeric(r) }) {
		return "!" + program + " credential"
	}
	return "!'" + strings.ReplaceAll(program, "'", `'\''`) + "' credential"
}

func alphanumeric(r rune) bool {
	return r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
}
