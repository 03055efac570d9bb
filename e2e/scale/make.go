package main

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/journal"
	"tavrin/internal/core/people"
	"tavrin/internal/core/rules"
	"tavrin/internal/core/statement"
	"tavrin/internal/records"
	"tavrin/internal/service"
	"tavrin/internal/signing"
	"tavrin/wire"
)

// maker makes a service's folder of some size. People, repositories and rules come by the service's own rooms; what happened to
// changes for years is written as the service would have, many at a time: rows, and lines of the journal with their hashes.
type maker struct {
	size
	dir     string
	records *records.Records
	rooms   service.Rooms
	key     *signing.Key
	admin   accounts.Actor
	rng     *rand.Rand

	repos  []*records.Repository
	set    []*rules.Set
	crew   map[string][]string // logins by team
	teams  map[string][]string // teams by login
	roles  map[string]people.Role
	first  []string // commit of each repository
	work   [][]made
	clock  time.Time
	last   journal.Line
	rows   rows
	number map[string]int64 // numbers given out, by table
}

// rows are those that are written next, in the order in which they refer to one another.
type rows struct {
	changes    []records.Change
	revisions  []records.Revision
	reviewers  []records.ChangeReviewer
	reviews    []records.Review
	threads    []records.Thread
	comments   []records.Comment
	pushed     []records.PushedCommit
	trees      []records.CommitTree
	runs       []records.CheckRun
	entries    []records.Entry
	rehearsals []records.Rehearsal
	intents    []records.Intent
	landings   []records.Landing
	brought    []records.LandedCommit
	sources    []records.LandedSource
	lines      []records.JournalLine
}

// makeIn makes a service of a size in a folder, and leaves the tokens to reach it beside it.
func makeIn(ctx context.Context, dir string, s size) error {
	m := &maker{size: s, dir: dir, rng: rand.New(rand.NewPCG(19, 1)), crew: map[string][]string{}, teams: map[string][]string{},
		roles: map[string]people.Role{}, number: map[string]int64{}}
	opened, err := service.Open(ctx, service.Options{Dir: m.data()})
	if err != nil {
		return err
	}
	token, err := opened.Access.FirstStart(ctx)
	if err == nil {
		err = opened.Close()
	}
	if err == nil {
		m.key, err = signing.Open(filepath.Join(m.data(), "signing.key"))
	}
	if err == nil {
		m.records, err = records.Open(ctx, filepath.Join(m.data(), "records.sqlite"), time.Now)
	}
	if err != nil {
		return err
	}
	m.rooms = service.Furnish(m.records, m.key, m.data(), filepath.Join(m.data(), "repositories"), filepath.Join(m.data(), "home"), service.Options{})
	if m.admin, err = m.rooms.Access.Authenticate(ctx, token); err != nil {
		return err
	}
	for _, step := range []func(context.Context) error{m.people, m.repositories, m.histories, m.years, m.tokens} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	m.rooms.Disk.Git.Close()
	return m.records.Close()
}

func (m *maker) data() string { return filepath.Join(m.dir, "data") }

// people makes everybody: all may read in the house, by their team.
func (m *maker) people(ctx context.Context) error {
	if _, err := m.rooms.Repositories.CreateHouse(ctx, m.admin, house); err != nil {
		return err
	}
	team := func(id int64, name string, members []int) error {
		t := records.Team{ID: id, Name: name, CreatedAt: time.Now()}
		var of []records.TeamMember
		var logins []string
		for _, n := range members {
			of = append(of, records.TeamMember{TeamID: id, AccountID: int64(n + 10)})
			logins = append(logins, login(n))
			m.crew[name] = append(m.crew[name], login(n))
			m.teams[login(n)] = append(m.teams[login(n)], name)
		}
		return m.records.Write(ctx, func(tx *records.Tx) error {
			if err := tx.Create(&t).Error; err != nil {
				return err
			}
			if err := tx.CreateInBatches(of, 500).Error; err != nil {
				return err
			}
			return tx.Record(m.admin.Login(), nil, event.TeamCreated{Team: name, Members: logins, Managers: []string{maintainer}})
		})
	}
	err := m.records.Write(ctx, func(tx *records.Tx) error {
		var all []records.Account
		for n := range m.size.people {
			all = append(all, records.Account{ID: int64(n + 10), Login: login(n), Name: login(n), Email: login(n) + "@fennmoor.invalid", CreatedAt: time.Now()})
			if err := tx.Record(m.admin.Login(), nil, event.PersonCreated{Login: login(n)}); err != nil {
				return err
			}
		}
		all = append(all, records.Account{ID: 5, Login: robot, Name: robot, Robot: true, CreatedAt: time.Now()})
		return cmp.Or(tx.CreateInBatches(all, 500).Error, tx.Record(m.admin.Login(), nil, event.RobotCreated{Login: robot}))
	})
	if err != nil {
		return err
	}
	everybody := make([]int, m.size.people)
	for n := range everybody {
		everybody[n] = n
	}
	if err := team(1, "members", everybody); err != nil {
		return err
	}
	for t := range m.size.teams {
		var members []int
		for k := range 2 * m.size.people / m.size.teams {
			members = append(members, (t*m.size.people/m.size.teams+k)%m.size.people)
		}
		if err := team(int64(t+2), teamName(t), members); err != nil {
			return err
		}
	}
	if err := m.rooms.People.Grant(ctx, m.admin, house, "team:members", "reader"); err != nil {
		return err
	}
	return m.rooms.People.Grant(ctx, m.admin, house, maintainer, "maintainer")
}

// owners is the team that owns the areas of a repository.
func (m *maker) owners(n int) string { return teamName(n % m.size.teams) }

func (m *maker) repositories(ctx context.Context) error {
	if _, err := m.rooms.Rulebook.ApplyRules(ctx, m.admin, house, houseRules(false), "as we all work", -1); err != nil {
		return err
	}
	for n := range m.size.repositories {
		name := repositoryName(n)
		if _, err := m.rooms.Repositories.CreateRepository(ctx, m.admin, wire.NewRepository{Name: name}); err != nil {
			return err
		}
		var repo records.Repository
		if err := m.records.Read(ctx).Where("name = ?", name).First(&repo).Error; err != nil {
			return err
		}
		m.repos = append(m.repos, &repo)
		if err := m.rooms.People.Grant(ctx, m.admin, name, "team:"+m.owners(n), "writer"); err != nil {
			return err
		}
		if _, err := m.rooms.Rulebook.ApplyRules(ctx, m.admin, name, ownRules(m.owners(n), n == 0), "as we work here", -1); err != nil {
			return err
		}
	}
	for _, repo := range m.repos {
		force, err := m.rooms.Rulebook.RulesOf(m.records.Read(ctx), repo)
		if err != nil {
			return err
		}
		m.set = append(m.set, force.Set)
	}
	return nil
}

// histories writes what Git has of the repositories.
func (m *maker) histories(ctx context.Context) error {
	others := max(1, m.size.repositories-1)
	for n, repo := range m.repos {
		landed, open, files, spare := (m.changes-m.open)*9/10/others, (m.open-m.big)/others, 60, 0
		if n == 0 {
			landed, open, files, spare = (m.changes-m.open)/10, m.big, m.files, max(0, m.branches-m.big)
		}
		crew := m.crew[m.owners(n)]
		first, work, err := history(ctx, m.rooms.Disk.Path(repo.ID), files, landed, open, spare, func(change int) string { return crew[change%len(crew)] })
		if err != nil {
			return err
		}
		m.first, m.work = append(m.first, first), append(m.work, work)
	}
	return nil
}

// moment is a change of a repository in the order of time.
type moment struct {
	repo, change int
	at           float64
}

// years writes what happened to all changes.
func (m *maker) years(ctx context.Context) error {
	var all []moment
	for r, work := range m.work {
		for c := range work {
			all = append(all, moment{r, c, (float64(c) + m.rng.Float64()) / float64(len(work))})
		}
	}
	slices.SortFunc(all, func(a, b moment) int { return cmp.Compare(a.at, b.at) })
	var end records.JournalLine
	if err := m.records.Read(ctx).Order("seq DESC").Limit(1).Find(&end).Error; err != nil {
		return err
	}
	m.last = journal.Line{Seq: end.Seq, Hash: end.Hash}
	m.clock = time.Now().Add(-3 * 365 * 24 * time.Hour).UTC().Truncate(time.Second)
	step := 3 * 365 * 24 * time.Hour / time.Duration(len(all)+1)
	for r, repo := range m.repos {
		m.tell("admin", repo, event.BranchCreated{RefMove: event.RefMove{Ref: "refs/heads/main", New: m.first[r], RulesVersion: 1}})
	}
	for n := range max(0, m.branches-m.big) {
		m.tell("admin", m.repos[0], event.BranchCreated{RefMove: event.RefMove{Ref: fmt.Sprintf("refs/heads/spare/%d", n), New: m.first[0], RulesVersion: 1}})
	}
	if err := m.queues(ctx); err != nil {
		return err
	}
	for i, x := range all {
		// What is said beside fills the journal up to its length.
		left := m.lines - int(m.last.Seq) - 30*(len(all)-i)
		if err := m.change(x, max(0, left/(len(all)-i))); err != nil {
			return err
		}
		m.clock = m.clock.Add(step)
		if len(m.rows.lines) > 20_000 {
			if err := m.flush(ctx); err != nil {
				return err
			}
		}
	}
	if err := m.flush(ctx); err != nil {
		return err
	}
	return m.records.Note(ctx, func(tx *records.Tx) error {
		for r, repo := range m.repos {
			if err := tx.Model(repo).Update("changes", len(m.work[r])).Error; err != nil {
				return err
			}
		}
		// What follows the journal has followed it all along.
		if err := tx.Save(&records.Cursor{Name: "conflicts", Seq: m.last.Seq}).Error; err != nil {
			return err
		}
		return tx.Exec("ANALYZE").Error
	})
}

func (m *maker) queues(ctx context.Context) error {
	return m.records.Note(ctx, func(tx *records.Tx) error {
		for _, repo := range m.repos {
			if err := tx.Create(&records.Queue{ID: repo.ID, RepositoryID: repo.ID, Target: "main"}).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// next gives out a number of a table.
func (m *maker) next(table string) int64 {
	m.number[table]++
	return m.number[table]
}

// tell adds a line to the journal.
func (m *maker) tell(by string, repo *records.Repository, e event.Event) {
	data, err := json.Marshal(e)
	if err != nil {
		panic(err) // an event is made of texts and numbers
	}
	m.clock = m.clock.Add(time.Millisecond)
	line := journal.Line{Seq: m.last.Seq + 1, At: m.clock, Actor: by, Kind: event.KindOf(e).Name, Repository: repo.Name, Subject: e.Subject(), Text: e.Text(by),
		Data: data, Prev: m.last.Hash}
	line.Hash = journal.Sum(line)
	m.last = line
	m.rows.lines = append(m.rows.lines, records.JournalLine{Seq: line.Seq, At: line.At.Format(time.RFC3339Nano), Actor: by, Kind: line.Kind, RepositoryID: repo.ID,
		Repository: repo.Name, Subject: line.Subject, Text: line.Text, Data: string(data), Prev: line.Prev, Hash: line.Hash})
}

// check writes an attempt of a check on a commit.
func (m *maker) check(repo *records.Repository, commit, name, asked string, c *records.Change, state string) {
	of := event.OfCheck{Name: name, Commit: commit, Attempt: 1, Number: c.Number, Target: c.Target}
	run := records.CheckRun{ID: m.next("runs"), RepositoryID: repo.ID, CommitID: commit, Name: name, Attempt: 1, State: state, AskedFor: asked, ChangeNumber: c.Number,
		Target: c.Target, CreatedAt: m.clock}
	m.tell(records.Itself, repo, event.CheckAsked{OfCheck: of, For: asked})
	if state != "waiting" {
		at := m.clock
		run.ReportedBy, run.Summary, run.StartedAt, run.FinishedAt, run.Milliseconds = robot, "214 tests", &at, &at, 90_000
		run.Log = fmt.Sprintf("ran %s on %s\n214 tests, all passed\n", name, commit)
		m.tell(robot, repo, event.CheckReported{OfCheck: of, State: state, Summary: run.Summary, Seconds: 90})
	}
	m.rows.runs = append(m.rows.runs, run)
}

// change writes everything about one change, with some talk besides.
func (m *maker) change(x moment, talk int) error {
	repo, w := m.repos[x.repo], m.work[x.repo][x.change]
	of := event.OfChange{Number: w.number}
	c := records.Change{ID: m.next("changes"), RepositoryID: repo.ID, Number: w.number, Title: title(w.number), Description: "So that nothing dries out over night.\n",
		Source: fmt.Sprintf("work/%d", w.number), Target: "main", State: "open", Revision: 1, OpenedBy: w.login, CreatedAt: m.clock, UpdatedAt: m.clock}
	if w.landed != "" {
		c.State, c.LandedCommit = "landed", w.landed
	}
	ref := "refs/heads/" + c.Source
	m.tell(w.login, repo, event.BranchCreated{RefMove: event.RefMove{Ref: ref, New: w.head, RulesVersion: 1}})
	m.tell(w.login, repo, event.ChangeOpened{OfChange: of, Title: c.Title, Source: c.Source, Target: c.Target, State: "open"})
	m.tell(w.login, repo, event.ChangeRevised{OfChange: of, Revision: 1, Kind: event.First, Target: c.Target, Head: w.head, Base: w.base, Authors: []string{w.login}})
	brought := []records.BroughtCommit{{ID: w.head, Message: fmt.Sprintf("Work on change %d", w.number), Parents: 1, Email: w.login + "@fennmoor.invalid"}}
	revision := records.Revision{ID: m.next("revisions"), ChangeID: c.ID, Number: 1, Head: w.head, Base: w.base, PushedBy: w.login, LastPusher: w.login, Authors: []string{w.login},
		Kind: event.First, Bases: 1, Paths: []string{w.path}, Ways: change.Ways{Added: []string{w.path}}, Files: 1, Added: w.added, Commits: brought,
		CommitAuthors: []string{w.login}, CreatedAt: m.clock}
	m.rows.revisions = append(m.rows.revisions, revision)
	m.rows.pushed = append(m.rows.pushed, records.PushedCommit{RepositoryID: repo.ID, CommitID: w.head, Login: w.login})
	m.rows.trees = append(m.rows.trees, records.CommitTree{RepositoryID: repo.ID, CommitID: w.head, Tree: w.tree})
	crew := m.crew[m.owners(x.repo)]
	reviewers := []string{crew[(w.number+3)%len(crew)], crew[(w.number+5)%len(crew)]}
	asked := "person:" + reviewers[0]
	m.rows.reviewers = append(m.rows.reviewers, records.ChangeReviewer{ChangeID: c.ID, Who: asked, AskedAt: m.clock})
	m.tell(w.login, repo, event.ReviewAsked{OfChange: of, Who: []string{asked}})
	head := "passed"
	if w.landed == "" && w.number%7 == 0 {
		head = "failed"
	}
	m.check(repo, w.head, "lint", fmt.Sprintf("change/%d", w.number), &c, head)
	thread := records.Thread{ID: m.next("threads"), ChangeID: c.ID, Revision: 1, Path: w.path, FirstLine: 1, LastLine: 1, Quoted: "a line", NeedsAnswer: w.landed != "" || w.number%3 == 0,
		BegunBy: reviewers[1], BegunAt: m.clock}
	at := event.OfThread{OfChange: of, Thread: thread.ID, Where: w.path + ", line 1"}
	m.tell(reviewers[1], repo, event.ThreadBegun{OfThread: at})
	m.rows.comments = append(m.rows.comments, records.Comment{ID: m.next("comments"), ThreadID: thread.ID, Login: reviewers[1], Text: "Why at this hour?", CreatedAt: m.clock})
	for n := range talk {
		who := []string{w.login, reviewers[1]}[n%2]
		m.tell(who, repo, event.ThreadReplied{OfThread: at})
		m.rows.comments = append(m.rows.comments, records.Comment{ID: m.next("comments"), ThreadID: thread.ID, Login: who, Text: fmt.Sprintf("The ditch is full by then, %d.", n), CreatedAt: m.clock})
	}
	if w.landed != "" {
		ended := m.clock
		thread.ResolvedBy, thread.ResolvedAt = w.login, &ended
		m.tell(w.login, repo, event.ThreadResolved{OfThread: at})
	}
	m.rows.threads = append(m.rows.threads, thread)
	approvals := reviewers
	if w.landed == "" && x.repo == 0 { // two in three of the big repository's are approved once, as is enough
		approvals = reviewers[:min(w.number%3, 1)]
	} else if w.landed == "" {
		approvals = reviewers[:w.number%2]
	}
	var reviews []change.Review
	for _, by := range approvals {
		if by == w.login {
			continue
		}
		m.rows.reviews = append(m.rows.reviews, records.Review{ID: m.next("reviews"), ChangeID: c.ID, Revision: 1, Login: by, Verdict: "approve", Title: c.Title,
			Description: c.Description, Teams: m.teams[by], CreatedAt: m.clock})
		reviews = append(reviews, change.Review{By: by, Verdict: change.Approve, Revision: 1, SameDifference: true, Title: c.Title, Description: c.Description, At: m.clock, Teams: m.teams[by]})
		m.tell(by, repo, event.ReviewApproved{Word: event.Word{OfChange: of, Revision: 1}})
	}
	m.rows.changes = append(m.rows.changes, c)
	if w.landed == "" {
		return nil
	}
	return m.landing(x, c, revision, reviews, thread)
}

// landing writes how a change landed.
func (m *maker) landing(x moment, c records.Change, r records.Revision, reviews []change.Review, thread records.Thread) error {
	repo, w := m.repos[x.repo], m.work[x.repo][x.change]
	of := event.OfChange{Number: w.number}
	e := records.Entry{ID: m.next("entries"), RepositoryID: repo.ID, ChangeID: c.ID, Target: "main", State: "landed", Place: int64(w.number), Strategy: "squash", JoinedBy: w.login,
		DeleteSource: true, Lines: w.added, Waited: 5_000, Queued: 20_000, Rehearsed: 600_000, Landed: 400, CreatedAt: m.clock}
	m.tell(w.login, repo, event.QueueJoined{OfChange: of, Target: "main", Strategy: "squash", DeleteSource: true})
	m.tell(records.Itself, repo, event.QueueQueued{Placed: event.Placed{OfChange: of, Reason: "ready; waiting for those ahead"}})
	m.tell(records.Itself, repo, event.RehearsalBegun{Placed: event.Placed{OfChange: of, Reason: "rehearsed on the tip"}})
	part := records.Rehearsal{ID: m.next("rehearsals"), QueueID: repo.ID, Number: int64(w.number), EntryID: e.ID, Revision: 1, Base: w.base, Head: w.head, Strategy: "squash",
		Message: title(w.number), AuthorName: w.login, AuthorEmail: w.login + "@fennmoor.invalid", AuthoredAt: m.clock, CommittedAt: m.clock, CommitID: w.landed, Tree: w.tree,
		Tested: w.landed, Approvers: []string{}, Ended: "it has landed", CreatedAt: m.clock}
	m.tell(records.Itself, repo, event.RehearsalBuilt{OfChange: of, Rehearsal: part.Number, Target: "main", Commit: w.landed, Base: w.base, Tree: w.tree, Strategy: "squash", Revision: 1})
	m.rows.trees = append(m.rows.trees, records.CommitTree{RepositoryID: repo.ID, CommitID: w.landed, Tree: w.tree})
	for _, name := range []string{"unit", "build"} {
		m.check(repo, w.landed, name, fmt.Sprintf("rehearsal/%d", part.Number), &c, "passed")
	}
	m.tell(records.Itself, repo, event.LandingBegun{Placed: event.Placed{OfChange: of, Reason: "about to land"}})
	check := func(name string) change.Check {
		return change.Check{Name: name, State: change.Passed, Attempt: 1, By: robot, Summary: "214 tests", At: m.clock}
	}
	facts := change.Facts{Repository: repo.Name, Number: c.Number, State: "open", Title: c.Title, Description: c.Description, Source: c.Source, Target: c.Target, Revision: 1, Head: w.head,
		Opener: w.login, Authors: r.Authors, LastPusher: w.login, Reviews: reviews, PushedAt: r.CreatedAt, Paths: r.Paths, Ways: r.Ways, Files: 1,
		Added: w.added, Bases: 1, Commits: []change.Commit{{ID: w.head, Message: r.Commits[0].Message, Parents: 1, Email: r.Commits[0].Email}}, CommitAuthors: r.CommitAuthors,
		Threads:    []change.Thread{{ID: thread.ID, By: thread.BegunBy, Where: w.path + ", line 1", ResolvedBy: thread.ResolvedBy}},
		HeadChecks: []change.Check{check("lint")}, Rehearsal: &change.Rehearsal{Commit: w.landed, Base: w.base, BuiltAt: m.clock, Checks: []change.Check{check("unit"), check("build")}},
		RulesVersion: 1, HouseVersion: 1, At: m.clock, Asker: w.login, Strategy: "squash"}
	those := map[string]people.Person{}
	for _, login := range []string{w.login, thread.BegunBy, thread.ResolvedBy} {
		those[login] = people.Person{Login: login, Role: people.Writer, Teams: m.teams[login]}
	}
	for _, review := range reviews {
		those[review.By] = people.Person{Login: review.By, Role: people.Writer, Teams: m.teams[review.By]}
	}
	facts.People = people.Known(those)
	report := gate.JudgeInFull(m.set[x.repo], facts)
	if !report.Clear {
		return fmt.Errorf("change %d of %s would not land: %s", c.Number, repo.Name, report.Summary)
	}
	given, err := statement.KeepFacts(facts)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(given)
	intent := records.Intent{ID: m.next("intents"), RepositoryID: repo.ID, Kind: "landing", Ref: "refs/heads/main", Old: w.base, New: w.landed, Actor: w.login, EntryID: &e.ID,
		RehearsalID: &part.ID, Revision: 1, RulesVersion: 1, HouseVersion: 1, Digest: hex.EncodeToString(sum[:]), Outcome: "done", CreatedAt: m.clock}
	text, err := json.Marshal(statement.Of(intent.Ref, statement.Landing{Repository: repo.Name, Change: c.Number, Revision: 1, Old: w.base, New: w.landed, Strategy: "squash", RulesVersion: 1,
		HouseVersion: 1, AskedBy: w.login, IntendedAt: m.clock, Facts: given, Report: statement.Judged(report)}))
	if err != nil {
		return err
	}
	signed, err := m.key.Seal(statement.MediaType, text)
	if err != nil {
		return err
	}
	l := records.Landing{ID: m.next("landings"), RepositoryID: repo.ID, ChangeID: c.ID, EntryID: e.ID, IntentID: intent.ID, Old: w.base, New: w.landed, Strategy: "squash", Revision: 1,
		RulesVersion: 1, HouseVersion: 1, Statement: signed, LandedBy: w.login, LandedAt: m.clock}
	m.tell(w.login, repo, event.ChangeLanded{OfChange: of, Title: c.Title, Target: "main", Old: w.base, New: w.landed, Strategy: "squash", Revision: 1, RulesVersion: 1, HouseVersion: 1,
		FactsSHA256: intent.Digest, StatementSHA256: accounts.Digest(signed)})
	m.tell(w.login, repo, event.BranchDeleted{RefMove: event.RefMove{Ref: "refs/heads/" + c.Source, Old: w.head, RulesVersion: 1}, Landed: true})
	ended := m.clock
	e.EndedAt = &ended
	z := &m.rows
	z.entries, z.rehearsals, z.intents, z.landings = append(z.entries, e), append(z.rehearsals, part), append(z.intents, intent), append(z.landings, l)
	z.brought = append(z.brought, records.LandedCommit{RepositoryID: repo.ID, CommitID: w.landed, LandingID: l.ID})
	z.sources = append(z.sources, records.LandedSource{RepositoryID: repo.ID, CommitID: w.head, LandingID: l.ID})
	return nil
}

// flush writes what has gathered.
func (m *maker) flush(ctx context.Context) error {
	z := m.rows
	m.rows = rows{}
	return m.records.Note(ctx, func(tx *records.Tx) error {
		return cmp.Or(put(tx.DB, z.changes), put(tx.DB, z.revisions), put(tx.DB, z.reviewers), put(tx.DB, z.reviews), put(tx.DB, z.threads), put(tx.DB, z.comments),
			put(tx.DB, z.pushed), put(tx.DB, z.trees), put(tx.DB, z.runs), put(tx.DB, z.entries), put(tx.DB, z.rehearsals), put(tx.DB, z.intents), put(tx.DB, z.landings),
			put(tx.DB, z.brought), put(tx.DB, z.sources), put(tx.DB, z.lines))
	})
}

func put[T any](db *gorm.DB, rows []T) error {
	if len(rows) == 0 {
		return nil
	}
	return db.CreateInBatches(rows, 500).Error
}

// tokens makes the tokens by which it is measured.
func (m *maker) tokens(ctx context.Context) error {
	all := map[string]string{}
	for _, n := range []accounts.NewToken{{Login: "admin"}, {Login: maintainer}, {Login: grower}, {Login: m.crew[m.owners(0)][0]}, {Login: m.crew[m.owners(0)][1]}} {
		t, err := m.rooms.Access.CreateToken(ctx, m.admin, n)
		if err != nil {
			return err
		}
		all[n.Login] = t.Secret
	}
	text, err := json.Marshal(all)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(m.dir, "tokens.json"), text, 0o600)
}
