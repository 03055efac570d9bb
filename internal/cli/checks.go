package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/internal/core/change"
	"tavrin/internal/runner"
	"tavrin/wire"
)

func (p *program) check() *cobra.Command {
	var name string
	rerun := inRepo(p, "rerun COMMIT", "Ask for another attempt of a check", cobra.ExactArgs(1),
		func(ctx context.Context, h here, args []string) (wire.Check, error) {
			return h.Rerun(ctx, h.repo, args[0], name)
		}, func(w io.Writer, k wire.Check) {
			row(w, fmt.Sprintf("attempt %d of %s on %s was asked for", k.Attempt, k.Name, short(k.Commit)))
		})
	rerun.Flags().StringVar(&name, "name", "", "name of the check (needed)")
	var taken bool
	wanted := inRepo(p, "wanted", "List checks that wait for a report", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) ([]wire.Check, error) {
			if taken {
				return h.TakenOn(ctx, h.repo)
			}
			return h.Wanted(ctx, h.repo)
		}, printChecks)
	wanted.Flags().BoolVar(&taken, "taken", false, "those that a worker has taken on, and that are running")
	return group("check", "Report checks, look at them, run them by hand", p.connectCheck(), p.reportCheck(), needs(rerun, "name"),
		p.listChecks(),
		wanted, p.claimCheck(),
		inRepo(p, "log COMMIT NAME", "Print the end of a runner's log", cobra.ExactArgs(2),
			func(ctx context.Context, h here, args []string) (wire.Check, error) {
				checks, err := h.Checks(ctx, h.repo, args[0])
				i := slices.IndexFunc(checks, func(k wire.Check) bool { return k.Name == args[1] })
				if err == nil && i < 0 {
					err = fmt.Errorf("check %q was not seen on %s", args[1], short(args[0]))
				}
				if err != nil {
					return wire.Check{}, err
				}
				return checks[i], nil
			}, func(_ io.Writer, k wire.Check) { fmt.Fprint(p.out, block(k.Log)) }),
		p.aboutRepo(&cobra.Command{Use: "run NAME", Short: "Run a command check by hand, in the work tree as it is",
			Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
				return p.runHere(cmd.Context(), args[0])
			}}))
}

// claimCheck takes a check on, for one of several workers.
func (p *program) claimCheck() *cobra.Command {
	var name string
	var wait time.Duration
	none := false
	c := inRepo(p, "claim", "Take the oldest check that waits, so that no other worker does; exit 0 taken, 3 none waits", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) ([]wire.Check, error) {
			k, err := h.ClaimCheck(ctx, h.repo, name, wait)
			if none = k == nil; none {
				return []wire.Check{}, err
			}
			return []wire.Check{*k}, err
		}, printChecks)
	run := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if err := run(cmd, args); err != nil || !none {
			return err
		}
		return &exitError{status: statusNotYet}
	}
	c.Flags().StringVar(&name, "name", "", "only that check (default: any that the token names)")
	c.Flags().DurationVar(&wait, "wait", 0, "how long to wait for one, at most 25s (default: not at all)")
	return c
}

// maxLog is how much of a log the service keeps, in bytes.
const maxLog = 64 << 10

func (p *program) reportCheck() *cobra.Command {
	n := wire.NewReport{}
	var stands, logFile, annotationsFile string
	var numbers []string
	var took time.Duration
	c := inRepo(p, "report", "Report how a check stands", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) (k wire.Check, err error) {
			n.State, n.Seconds = change.CheckState(stands), took.Seconds()
			if logFile != "" {
				if n.Log, err = p.endOf(logFile, maxLog); err != nil {
					return k, err
				}
			}
			if n.Numbers, err = readNumbers(numbers); err != nil {
				return k, err
			}
			if annotationsFile != "" {
				if n.Annotations, err = p.readAnnotations(annotationsFile); err != nil {
					return k, err
				}
			}
			return h.ReportCheck(ctx, h.repo, n)
		}, func(w io.Writer, k wire.Check) {
			row(w, fmt.Sprintf("%s is %s on %s (attempt %d)", k.Name, k.State, short(k.Commit), k.Attempt))
		})
	f := c.Flags()
	f.StringVar(&n.Commit, "commit", "", "the commit, by its id or enough of the beginning (needed)")
	f.StringVar(&n.Name, "name", "", "name of the check (needed)")
	f.StringVar(&stands, "state", "", "waiting, running, passed, failed, errored, skipped or cancelled (needed)")
	f.StringVar(&n.Link, "link", "", "where to read more")
	f.StringVar(&n.Summary, "summary", "", "what came out, in a line")
	f.IntVar(&n.Attempt, "attempt", 0, "which attempt is answered; needed from the second on")
	f.StringVar(&logFile, "log", "", "file of which the end is kept as its log")
	f.DurationVar(&took, "took", 0, "how long it took, such as 41s (default: from the first report to the last)")
	f.StringArrayVar(&numbers, "number", nil, "NAME=NUMBER, such as coverage=81.4; may be given several times")
	f.StringVar(&annotationsFile, "annotations", "", "file with what it says about lines, one a line: "+
		"PATH:LINE: note, warning or error: TEXT")
	f.StringVar(&n.Part, "part", "", "of a check that runs in several parts: which this is")
	f.IntVar(&n.PartsOf, "parts-of", 0, "how many parts there are; the check ends when all have")
	f.StringVar(&n.Key, "key", "", "of your own: the same report under the same key counts once")
	return needs(c, "commit", "name", "state")
}

// endOf reads the end of a file.
func (p *program) endOf(file string, most int64) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.Size() > most {
		if _, err := f.Seek(-most, io.SeekEnd); err != nil {
			return "", err
		}
	}
	text, err := io.ReadAll(io.LimitReader(f, most))
	return strings.ToValidUTF8(string(text), "\uFFFD"), err
}

func readNumbers(given []string) (map[string]float64, error) {
	if len(given) == 0 {
		return nil, nil
	}
	out := map[string]float64{}
	for _, text := range given {
		name, value, ok := strings.Cut(text, "=")
		n, err := strconv.ParseFloat(value, 64)
		if !ok || err != nil {
			return nil, misuse("--number is NAME=NUMBER, not %q", text)
		}
		out[name] = n
	}
	return out, nil
}

// annotation is how many programs write what they have to say about a line.
var annotation = regexp.MustCompile(`^(.+?):(\d+)(?:-(\d+))?: *(note|warning|error): *(.*)$`)

func (p *program) readAnnotations(file string) ([]wire.Annotation, error) {
	text, err := p.readFile(file)
	if err != nil {
		return nil, err
	}
	var out []wire.Annotation
	for i, line := range strings.Split(strings.TrimSpace(text), "\n") {
		if strings.TrimSpace(line) == "" {
			continue
		}
		m := annotation.FindStringSubmatch(strings.TrimRight(line, "\r"))
		if m == nil {
			return nil, misuse("line %d of %s is not PATH:LINE: note, warning or error: TEXT", i+1, file)
		}
		a := wire.Annotation{Path: strings.TrimPrefix(m[1], "./"), Level: m[4], Text: m[5]}
		a.Line, _ = strconv.Atoi(m[2])     // digits, by the expression
		a.LastLine, _ = strconv.Atoi(m[3]) // or empty: 0
		out = append(out, a)
	}
	return out, nil
}

// listChecks lists the checks of a commit or, without one, every name seen so far.
func (p *program) listChecks() *cobra.Command {
	ofCommit := inRepo(p, "list [COMMIT]", "List the checks of a commit, or all names seen so far",
		cobra.MaximumNArgs(1), func(ctx context.Context, h here, args []string) ([]wire.Check, error) {
			return h.Checks(ctx, h.repo, args[0])
		}, printChecks)
	names := inRepo(p, "list", "", cobra.NoArgs, func(ctx context.Context, h here, _ []string) ([]wire.CheckName,
		error) {
		return h.CheckNames(ctx, h.repo)
	}, func(w io.Writer, names []wire.CheckName) {
		row(w, "CHECK", "REQUIRED", "REPORTS", "LAST SEEN", "COMMAND")
		for _, n := range names {
			seen := "never"
			if n.LastSeen != nil {
				seen = ago(*n.LastSeen)
			}
			row(w, n.Name, yesNo(n.Demanded), n.Reports, seen, dash(n.Command))
		}
	})
	run := ofCommit.RunE
	ofCommit.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return names.RunE(cmd, args)
		}
		return run(cmd, args)
	}
	return ofCommit
}

func printChecks(w io.Writer, checks []wire.Check) {
	row(w, "CHECK", "STATE", "COMMIT", "ATTEMPT", "FOR", "BY", "SUMMARY", "LINK")
	for _, k := range checks {
		summary := k.Summary
		if k.RanOn != "" {
			summary = strings.TrimSuffix("ran on "+short(k.RanOn)+", the same tree; "+summary, "; ")
		}
		row(w, k.Name, state(k.State), short(k.Commit), k.Attempt, dash(k.AskedFor), dash(k.By), dash(summary), k.Link)
		for _, part := range k.Parts {
			row(w, "  "+part.Name, state(part.State), "", "", "", "", dash(part.Summary), part.Link)
		}
	}
	for _, k := range checks {
		for _, a := range k.Annotations {
			row(w, fmt.Sprintf("%s: %s:%d: %s: %s", k.Name, a.Path, a.Line, a.Level, a.Text))
		}
	}
}

// runHere runs a command check in the current clone, as the rules define it.
func (p *program) runHere(ctx context.Context, name string) error {
	c, err := p.client()
	if err != nil {
		return err
	}
	h, err := p.here(ctx, c)
	if err != nil {
		return err
	}
	names, err := h.CheckNames(ctx, h.repo)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(names, func(n wire.CheckName) bool { return n.Name == name })
	if i < 0 || names[i].Command == "" {
		var known []string
		for _, n := range names {
			if n.Command != "" {
				known = append(known, n.Name)
			}
		}
		return fmt.Errorf("the rules of %s define no command for %q; they define: %s", h.repo, name, list(known))
	}
	top, err := exec.CommandContext(ctx, "git", "rev-parse", "--show-toplevel").Output()
	if err != nil {
		return errors.New("run this in a clone of the repository")
	}
	fmt.Fprintf(p.err, "%s: %s\n", name, plain(names[i].Command))
	cmd := exec.CommandContext(ctx, "sh", "-c", names[i].Command)
	cmd.Dir, cmd.Stdout, cmd.Stderr = strings.TrimSpace(string(top)), p.out, p.err
	for _, kv := range os.Environ() { // what the check prints may end in a public log
		if !strings.HasPrefix(kv, "TAVRIN_TOKEN=") {
			cmd.Env = append(cmd.Env, kv)
		}
	}
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s failed: %w", name, err)
	}
	fmt.Fprintf(p.err, "%s passed\n", name)
	return nil
}

func (p *program) runner() *cobra.Command {
	var users string
	o := runner.Options{}
	c := &cobra.Command{Use: "runner", Short: "Take command checks and run them", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			text, err := os.ReadFile(o.TokenFile)
			if err != nil {
				return fmt.Errorf("read the runner's token: %w", err)
			}
			p.token = strings.TrimSpace(string(text))
			if o.Client, err = p.client(); err != nil {
				return err
			}
			if users != "" {
				if n, err := fmt.Sscanf(users, "%d-%d", &o.FirstUser, &o.LastUser); n != 2 || err != nil ||
					o.FirstUser < 1 || o.LastUser < o.FirstUser {
					return misuse("--job-users is FIRST-LAST, two numbers of users, such as %d-%d, not %q",
						runner.FirstJobUser, runner.LastJobUser, users)
				}
			}
			o.Log = slog.New(slog.NewTextHandler(p.err, nil))
			return runner.Run(cmd.Context(), o)
		}}
	f := c.Flags()
	f.StringVar(&o.TokenFile, "token-file", "", "file with the runner's token (needed)")
	f.StringVar(&o.Dir, "work-dir", "", "folder for checkouts (default: the system's for temporary files)")
	f.BoolVar(&o.BesideService, "beside-service", false, "start even where the service's data can be read")
	f.BoolVar(&o.BesideRunner, "beside-runner", false, "run jobs as this runner's own user, where they can read its "+
		"token")
	f.StringVar(&users, "job-users", "", fmt.Sprintf("FIRST-LAST: the users, by number, of which a runner started "+
		"as root gives each job one (default %d-%d)", runner.FirstJobUser, runner.LastJobUser))
	f.BoolVar(&o.Once, "once", false, "end when no job is waiting")
	return needs(c, "token-file")
}
