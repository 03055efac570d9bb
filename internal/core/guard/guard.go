// Package guard decides about pushes: which ref updates a repository's rules allow, and what the person who
// pushed is told about those they do not.
//
// The decision is pure. Facts about the commits (is the new one a descendant of the old?) are given; what comes
// out is a verdict for each update, with a short reason for Git's own status line and a longer one, with the exact
// commands that carry on, for the pusher's terminal.
package guard

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/mtibben/confusables"
	"golang.org/x/text/unicode/norm"

	"tavrin/internal/core/change"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
)

// Preview begins the names to which everybody who may write pushes what is only to be looked at: PREVIEW/LOGIN/NAME.
// They are no branches: nothing lands from them, and they go away by themselves.
const Preview = "refs/preview/"

// Update is one ref that a push wants to move, with what Git knows about the move.
type Update struct {
	Ref string // full name, such as refs/heads/main
	Old string // empty: the ref is new
	New string // empty: the ref is deleted
	// Forward says that New contains Old; it means nothing for a new or deleted ref.
	Forward bool
	// Held are the branches that hold New already; it means something for a new ref only.
	Held []string
	// Tag is what the new tag is; it means something for a tag only.
	Tag change.Tag
	// Beside says that branches or tags are pushed in the same push.
	Beside bool
	// Commits are those that the push brings to the branch, for the requirements that hold for pushes too.
	Commits []change.Commit
}

// Facts is what a decision depends on besides the update.
type Facts struct {
	Repository string // HOUSE/NAME
	Pusher     people.Person
	People     people.Everyone // everybody with access, by login
	Rules      *rules.Set      // nil: none applied yet
	Empty      bool            // the repository has no branch yet
	Default    string          // its default branch
	Console    string          // address of the service, without a slash at the end; empty: not known
	// Taken are the names of branches and tags that are there already, or are made by the same push: by what they look
	// like (Likeness), the full name. It may be nil where nothing is made.
	Taken map[string]string
	// Stops are the freezes of branches now: protected ones do not move while they last.
	Stops func(branch string) []change.Stop
	// Permits are the pusher's waivers for pushes that were neither used nor have expired.
	Permits []Permit
}

// Permit is a waiver, on record, for one move of one branch: what it waives, in the very words.
type Permit struct {
	ID            int64
	Ref, Old, New string
	Waives        []change.Named
}

// Verdict is the answer to one update.
type Verdict struct {
	Allowed bool
	// Protected says that the branch is under a protection, so that the move is put on record before it is made.
	Protected bool
	Short     string   // a few words, for Git's status line; empty when allowed
	Lines     []string // for the terminal; may hold advice when allowed
	LeftOut   bool     // it is not allowed, and refuses nothing: what was pushed beside it is
	// Exempted names the protections that would have refused and do not bind the pusher; it goes on record.
	Exempted []require.Source
	// Permit is the number of the waiver that the move rests on; 0: none was needed.
	Permit int64
}

// Obstacle is one thing that the rules of a protected branch hold against a move.
type Obstacle struct {
	Key      string // push, create, rewrite, delete, or the demand that holds for pushes too
	From     require.Source
	Short    string // a few words
	Sentence string
	advise   bool // whether the commits can take another way
}

// Named is the obstacle as a waiver names it.
func (o Obstacle) Named() change.Named { return change.Named{Key: o.Key, Title: o.title()} }

func (o Obstacle) title() string { return o.From.Protection + ": " + o.Short }

// Others says whether a name is of what other programs than this one keep in a repository besides branches and tags: notes,
// what was stashed, and where the branches of elsewhere stood. A mirror has them; here they have no place.
func Others(ref string) bool {
	for _, kind := range []string{"refs/notes/", "refs/remotes/", "refs/stash", "refs/replace/", "refs/bisect/", "refs/original/"} {
		if strings.HasPrefix(ref, kind) {
			return true
		}
	}
	return false
}

// Judge decides about one update.
func Judge(u Update, f Facts) Verdict {
	branch, isBranch := strings.CutPrefix(u.Ref, "refs/heads/")
	switch {
	case !f.Pusher.Role.AtLeast(people.Writer):
		return refuse(u, "you may not write here", fmt.Sprintf("%s may not write to %s: ask a maintainer of it for "+
			"the role writer.",
			f.Pusher.Login, f.Repository))
	case strings.HasPrefix(u.Ref, Preview):
		if !strings.HasPrefix(u.Ref, Preview+f.Pusher.Login+"/") {
			return refuse(u, "not your preview space", fmt.Sprintf("%s: yours begins with %s%s/.", u.Ref, Preview,
				f.Pusher.Login))
		}
		return Verdict{Allowed: true}
	case u.Old == "" && f.Taken[Likeness(u.Ref)] != "" && f.Taken[Likeness(u.Ref)] != u.Ref:
		return alike(u, f.Taken[Likeness(u.Ref)])
	case u.Beside && Others(u.Ref):
		return Verdict{LeftOut: true}
	case !isBranch && !strings.HasPrefix(u.Ref, "refs/tags/"):
		return refuse(u, "not a branch or tag", fmt.Sprintf("%s: only refs/heads/…, refs/tags/… and %s%s/… can be "+
			"pushed; every other name is the service's own.", u.Ref, Preview, f.Pusher.Login))
	case !isBranch:
		return judgeTag(u, f)
	}
	set := f.Rules
	if set == nil {
		set = rules.NewSet(f.Repository)
	}
	if pattern, from, found := set.InTheWay(branch); found && u.Old == "" {
		return Verdict{Short: "it would stand in the way of protected names", Lines: []string{fmt.Sprintf(
			"Refused by %s: while there is a branch %s, Git can make none that matches %s, which is protected. "+
				"Choose another name.", from, branch, pattern)}}
	}
	e := set.For(branch)
	if f.Empty && (e.Protected || branch == f.Default) {
		if !f.Pusher.Role.AtLeast(people.Maintainer) {
			return refuse(u, "the first push is for maintainers", fmt.Sprintf(
				"%s is empty, and the first push of %s is for its maintainers: ask one of them.", f.Repository, branch))
		}
		return Verdict{Allowed: true, Protected: e.Protected}
	}
	if !e.Protected {
		return judgeFree(u, f, branch)
	}
	if claims := gate.Claims(u.Commits); len(claims) > 0 { // nobody is exempt from the truth
		return refuse(u, "a commit claims what only the service says",
			fmt.Sprintf("%s: these trailers are the service's. Reword (git commit --amend, git rebase "+
				"--interactive), then push.", strings.Join(claims, ", ")))
	}
	if f.Stops != nil {
		for _, s := range f.Stops(branch) { // nor is anybody exempt from a time at which nothing moves
			if !s.Hold { // which is of the queue alone
				return refuse(u, s.Says(), fmt.Sprintf("%s %s: %s.", branch, s.Says(), s.Next(branch)))
			}
		}
	}
	v := judgeProtected(u, f, branch, e)
	bound := set.Binding(branch, f.Pusher.Is)
	if v.Allowed || len(bound.Exempted) == 0 {
		return v.orPermitted(u, f, branch, e)
	}
	// Something refuses, and the pusher is exempt from a part of it: what is left decides.
	if bound.Protected {
		v = judgeProtected(u, f, branch, bound).orPermitted(u, f, branch, bound)
	} else {
		v = judgeFree(u, f, branch)
	}
	if v.Allowed {
		v.Protected, v.Exempted = true, bound.Exempted
		v.Lines = exempted(f, bound.Exempted)
	}
	return v
}

// Likeness is equal for names that people, or the file systems of their machines, cannot tell apart: the skeleton of
// UTS #39 (https://www.unicode.org/reports/tr39/), upper and lower case taken for the same, without what is not seen.
// Branches and tags share it: of both, git takes the one that was not meant.
func Likeness(ref string) string {
	_, name, _ := strings.Cut(strings.TrimPrefix(ref, "refs/"), "/")
	var b strings.Builder
	for i := range len(name) {
		if name[i] >= utf8.RuneSelf {
			return likeness(name)
		}
		b.WriteString(plainly[name[i]])
	}
	return b.String()
}

// plainly is the likeness of each ASCII character, of which none changes what is beside it: a push to a repository of
// thousands of branches looks at all their names.
var plainly = func() (table [utf8.RuneSelf]string) {
	for c := range table {
		table[c] = likeness(string(rune(c)))
	}
	return table
}()

func likeness(name string) string {
	fold := func(text string) string {
		return strings.Map(func(c rune) rune {
			if unicode.In(c, unicode.Cf, unicode.Mn, unicode.Variation_Selector,
				unicode.Other_Default_Ignorable_Code_Point) {
				return -1
			}
			return unicode.ToLower(c)
		}, text)
	}
	return fold(confusables.Skeleton(norm.NFKC.String(fold(name))))
}

// alike refuses a name that would be taken for another.
func alike(u Update, other string) Verdict {
	what := "tag"
	if strings.HasPrefix(other, "refs/heads/") {
		what = "branch"
	}
	_, name, _ := strings.Cut(strings.TrimPrefix(other, "refs/"), "/")
	return refuse(u, "it looks like another name", fmt.Sprintf("%s cannot be told from the %s %q, or only by upper "+
		"and lower case or by characters that look alike. Choose another name.", u.Ref, what, name))
}

// judgeTag decides about a tag: who may write makes tags, maintainers move and delete them, and protections that match
// allow no more than that.
func judgeTag(u Update, f Facts) Verdict {
	if u.Old == "" || f.Pusher.Role.AtLeast(people.Maintainer) {
		if f.Rules == nil {
			return Verdict{Allowed: true}
		}
		tag := strings.TrimPrefix(u.Ref, "refs/tags/")
		return judgeProtectedTag(u, f, tag, f.Rules.ForTag(tag, f.Pusher.Is))
	}
	return refuse(u, "tags do not move", fmt.Sprintf("%s exists already; only a maintainer may move or delete a tag.",
		u.Ref))
}

func judgeProtectedTag(u Update, f Facts, tag string, e *rules.Effective) Verdict {
	no := func(from require.Source, short, format string, args ...any) Verdict {
		return Verdict{Protected: true, Short: from.Protection + ": " + short,
			Lines: []string{fmt.Sprintf("Refused by %s: ", from) + fmt.Sprintf(format, args...)}}
	}
	for _, a := range e.Create {
		if !f.Pusher.IsAny(a.Who) {
			return no(a.Source, "you may not make it", "tags such as %s are made by %s.", tag, whoever(a.Who))
		}
	}
	switch {
	case u.New == "" && e.Delete.Value != rules.Allowed:
		return no(e.Delete.From[0], "it is not deleted", "%s is not deleted.", tag)
	case u.Old != "" && u.New != "" && e.Rewrite.Value != rules.Allowed:
		return no(e.Rewrite.From[0], "it does not move", "%s is there already, and it does not move: make another one.", tag)
	}
	for _, q := range e.Requirements {
		t, ofTags := q.Asks.(require.Tagged)
		if !ofTags || u.New == "" {
			continue
		}
		if short, sentence := t.OnTag(u.Tag, f.People); short != "" {
			return no(q.From[0], short, "%s: %s.", tag, sentence)
		}
	}
	v := Verdict{Allowed: true, Exempted: e.Exempted}
	if len(e.Exempted) > 0 {
		v.Lines = exempted(f, e.Exempted)
	}
	return v
}

// exempted tells whoever pushed that they used an exemption.
func exempted(f Facts, from []require.Source) []string {
	return []string{fmt.Sprintf("%s is exempt from %s; this push is recorded as a use of it.", f.Pusher.Login,
		require.Because(from))}
}

func judgeFree(u Update, f Facts, branch string) Verdict {
	v := Verdict{Allowed: true}
	switch {
	case u.New == "" && branch == f.Default:
		return refuse(u, "the default branch stays", branch+" is the default branch and cannot be deleted.")
	case u.Old == "" && branch != f.Default:
		v.Lines = []string{
			fmt.Sprintf("%s is new. To propose it for %s:", branch, f.Default),
			fmt.Sprintf("  tavrin change open --repo %s --source %s --target %s --title \"…\"", f.Repository,
				Quote(branch), Quote(f.Default)),
		}
	}
	return v
}

// Obstacles lists what the rules hold against a move of a branch, whoever may waive it; none when it is allowed.
func Obstacles(u Update, f Facts) []Obstacle {
	branch := strings.TrimPrefix(u.Ref, "refs/heads/")
	if f.Rules == nil {
		return nil
	}
	return obstacles(u, f, branch, f.Rules.Binding(branch, f.Pusher.Is))
}

func obstacles(u Update, f Facts, branch string, e *rules.Effective) []Obstacle {
	var out []Obstacle
	add := func(key string, from require.Source, advise bool, short, sentence string) {
		out = append(out, Obstacle{key, from, short, sentence, advise})
	}
	if !e.Protected {
		return nil
	}
	if u.New == "" && e.Delete.Value != rules.Allowed {
		for _, from := range e.Delete.From {
			add("delete", from, false, "it is not deleted", fmt.Sprintf("%s is not deleted.", branch))
		}
	}
	if u.Old != "" && u.New != "" && !u.Forward && e.Rewrite.Value != rules.Allowed {
		for _, from := range e.Rewrite.From {
			add("rewrite", from, true, "history is not rewritten", fmt.Sprintf("%.10s does not contain %s's %.10s, "+
				"and its history is not rewritten.", u.New, branch, u.Old))
		}
	}
	who := func(a rules.Allowance) string {
		if len(a.Who) == 0 {
			return "nobody pushes to it directly"
		}
		return "only " + whoever(a.Who) + " may push to it directly"
	}
	for i, a := range e.Push { // each protection by itself, so that one more can only refuse
		m, create := e.Protections[i], e.Create[i]
		held, mayCreate := u.Old == "" && m.Holds(u.Held), u.Old == "" && f.Pusher.IsAny(create.Who)
		switch {
		case f.Pusher.IsAny(a.Who), held && mayCreate:
		case held:
			add("create", create.Source, false, "you may not create it",
				fmt.Sprintf("%s may be created by %s.", branch, whoever(create.Who)))
		case mayCreate:
			add("create", a.Source, true, "it brings new commits", fmt.Sprintf("you may create %s, but only from a "+
				"commit that is on %s already, and %.10s is not: "+
				"push such a commit, and propose the rest as a change.", branch, m.CreatedWords(), u.New))
		default:
			add("push", a.Source, u.New != "", who(a),
				fmt.Sprintf("%s is protected: %s; changes land through the queue.", branch, who(a)))
		}
	}
	if u.Old == "" && e.MayBegin(u.Held) { // what is asked of commits was asked where they are held
		return out
	}
	for _, o := range gate.Pushed(e, u.Commits, f.People) {
		add(o.Kind, o.From, true, o.Short, o.Sentence)
	}
	return out
}

func judgeProtected(u Update, f Facts, branch string, e *rules.Effective) Verdict {
	all := obstacles(u, f, branch, e)
	switch {
	case len(all) == 0 && u.New == "" && branch == f.Default:
		return refuse(u, "the default branch stays", branch+" is the default branch and cannot be deleted.")
	case len(all) == 0:
		return Verdict{Allowed: true, Protected: true}
	}
	v := refused(u, f, branch, all[0])
	if u.Old != "" && u.New != "" && mayWaiveAll(all, f, e) {
		v.Lines = append(v.Lines, "If it cannot wait: you have the right to waive this, in the open, with "+
			"somebody else's acknowledgement afterwards. Push the commit to a branch of its own, then:",
			fmt.Sprintf("  tavrin waiver push %s --repo %s --commit %s --reason \"…\"", Quote(branch), f.Repository,
				u.New))
	}
	return v
}

// mayWaiveAll says whether the pusher may waive all of the obstacles.
func mayWaiveAll(all []Obstacle, f Facts, e *rules.Effective) bool {
	return !slices.ContainsFunc(all, func(o Obstacle) bool { return MayWaive(o, f, e) != "" })
}

// MayWaive says why the pusher may not waive an obstacle; nothing when they may.
func MayWaive(o Obstacle, f Facts, e *rules.Effective) string {
	return gate.MayWaive(f.Rules, e, require.Outcome{Title: o.title(), Sources: []require.Source{o.From}}, f.Pusher)
}

// orPermitted is the verdict where a permit of the pusher's waives everything that stands against the move.
func (v Verdict) orPermitted(u Update, f Facts, branch string, e *rules.Effective) Verdict {
	if v.Allowed || u.New == "" {
		return v
	}
	for _, p := range f.Permits {
		if p.Ref != u.Ref || p.Old != u.Old || p.New != u.New {
			continue
		}
		left := slices.DeleteFunc(obstacles(u, f, branch, e), func(o Obstacle) bool {
			return slices.Contains(p.Waives, o.Named()) && MayWaive(o, f, e) == ""
		})
		if len(left) > 0 {
			return refused(u, f, branch, left[0])
		}
		return Verdict{Allowed: true, Protected: true, Permit: p.ID,
			Lines: []string{fmt.Sprintf("Waiver %d of %s is used up by this push; somebody else has to acknowledge "+
				"it: tavrin waiver list --repo %s", p.ID, f.Pusher.Login, f.Repository)}}
	}
	return v
}

func whoever(who []people.Principal) string {
	if len(who) == 0 {
		return "nobody"
	}
	names := make([]string, len(who))
	for i, p := range who {
		names[i] = p.String()
	}
	return strings.Join(names, ", ")
}

// wayOut gives the commands that go on with the same commits on a branch of their own, propose them, and bring the local
// branch back; whoever runs them ends on that branch.
func wayOut(u Update, f Facts, branch string) []string {
	own := fmt.Sprintf("%s/%s-%.8s", f.Pusher.Login, strings.ReplaceAll(branch, "/", "-"), u.New)
	lines := []string{
		"Your commits are safe in your clone. To go on with them on a branch of their own, and propose that (origin being this " +
			"repository):",
		fmt.Sprintf("  git switch -c %s %.10s", own, u.New),
		fmt.Sprintf("  git push -u origin %s", own),
		fmt.Sprintf("  tavrin change open --repo %s --source %s --target %s --title \"…\"", f.Repository, own,
			Quote(branch)),
	}
	if f.Console != "" {
		lines = append(lines, fmt.Sprintf("  or %s/%s/propose?source=%s", f.Console, f.Repository, inQuery(own)))
	}
	lines = append(lines, "or add them to a branch you have there already:",
		fmt.Sprintf("  git push origin %.10s:refs/heads/NAME-OF-THAT-BRANCH", u.New))
	if u.Old != "" {
		lines = append(lines, fmt.Sprintf("If your local %s has them too, bring it back:", branch),
			"  git fetch origin", fmt.Sprintf("  git branch -f %s origin/%s", Quote(branch), Quote(branch)))
	}
	return lines
}

// inQuery writes a text as the value of a query: each byte that is not unreserved by its number (RFC 3986, section 2).
func inQuery(text string) string {
	var b strings.Builder
	for _, c := range []byte(text) {
		if c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || strings.IndexByte("-._~", c) >= 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

func refused(u Update, f Facts, branch string, o Obstacle) Verdict {
	v := Verdict{Protected: true, Short: o.title()}
	v.Lines = append(v.Lines, fmt.Sprintf("Refused by %s: %s", o.From, o.Sentence))
	if o.advise {
		v.Lines = append(v.Lines, wayOut(u, f, branch)...)
	}
	return v
}

func refuse(_ Update, short, sentence string) Verdict {
	return Verdict{Short: short, Lines: []string{"Refused: " + sentence}}
}

// NotTried is the verdict of an update that is fine by itself in an atomic push of which another part was refused.
func NotTried() Verdict {
	return Verdict{Short: "not tried: another ref of this push was refused"}
}

// quote makes a branch name safe to paste into a shell.
// Quote makes a name safe to paste into a shell.
func Quote(name string) string {
	for _, c := range name {
		if !strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._/-+@", c) {
			return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
		}
	}
	if name == "" {
		return "''"
	}
	return name
}
