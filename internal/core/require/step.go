package require

import (
	"slices"
)

// Action is something that a person can do about a requirement. Whoever shows a gate makes a command, a button or a link
// of it.
type Action string

// The actions.
const (
	DoApprove          Action = "approve"           // review a revision and approve it
	DoWithdraw         Action = "withdraw-review"   // take one's own objection back
	DoResolve          Action = "resolve-threads"   // go through the open threads
	DoEditTitle        Action = "edit-title"        // write the title anew
	DoEditDescription  Action = "edit-description"  // write the description anew, or tick its boxes
	DoEditDependencies Action = "edit-dependencies" // say anew which changes it waits for
	DoMarkReady        Action = "mark-ready"        // it is no draft any more
	DoReopen           Action = "reopen"            // open a closed change again
	DoClose            Action = "close"             // give it up
	DoUpdate           Action = "update"            // bring the source branch up to the target
	DoPush             Action = "push"              // push more commits, or other ones, to the source branch
	DoRestore          Action = "restore-branch"    // push the source branch again at the commit that it had
	DoFold             Action = "fold"              // fold fixup commits into those that they mend
	DoReword           Action = "reword"            // write the messages of commits anew
	DoSign             Action = "sign"              // make the commits again with a signature
	DoSignOff          Action = "sign-off"          // make the commits again with a sign-off
	DoJoin             Action = "join"              // ask to land, by one of the strategies where some are given
	DoRejoin           Action = "rejoin"            // leave the queue and join it again by one of the strategies
	DoRerun            Action = "rerun"             // ask for a check once more
	DoAskTracker       Action = "ask-tracker"       // ask the tracker once more about the change's tickets
	DoSeeGate          Action = "see-gate"          // look at what another change lacks
	DoChangeRules      Action = "change-rules"      // a maintainer's: change the rules, a team or a role
)

// Actions lists them.
var Actions = []Action{DoApprove, DoWithdraw, DoResolve, DoEditTitle, DoEditDescription, DoEditDependencies, DoMarkReady,
	DoReopen, DoClose, DoUpdate, DoPush, DoRestore, DoFold, DoReword, DoSign, DoSignOff, DoJoin, DoRejoin, DoRerun, DoAskTracker, DoSeeGate,
	DoChangeRules}

// Arguments are what an action is done to. Those that mean nothing to it are absent.
type Arguments struct {
	Change     int      `json:"change,omitempty" doc:"number of the change; absent: it has none yet"`
	Revision   int      `json:"revision,omitempty" doc:"the revision that is looked at"`
	Check      string   `json:"check,omitempty"`
	Commit     string   `json:"commit,omitempty" doc:"the commit that the check is asked for on, or the branch stood at"`
	Branch     string   `json:"branch,omitempty" doc:"the branch to push to, or the one that the commits are for"`
	Strategies []string `json:"strategies,omitempty" doc:"those that would do"`
}

// Step is one thing that can be done next about a requirement.
type Step struct {
	Action    Action    `json:"action" enum:"approve,withdraw-review,resolve-threads,edit-title,edit-description,edit-dependencies,mark-ready,reopen,close,update,push,restore-branch,fold,reword,sign,sign-off,join,rejoin,rerun,ask-tracker,see-gate,change-rules"`
	Arguments Arguments `json:"arguments"`
	Who       []string  `json:"who" doc:"logins of those who can; empty: whoever may write"`
}

// Do adds a step to a line, for those who can act on it.
func (o *Outcome) Do(action Action, with Arguments) {
	o.Steps = append(o.Steps, Step{action, with, nil})
}

// AnybodyDo adds a step to a line, for whoever may write.
func (o *Outcome) AnybodyDo(action Action, with Arguments) {
	o.Steps = append(o.Steps, Step{action, with, []string{}})
}

// ThisChange is the change as an argument.
func (c *Case) ThisChange() Arguments { return Arguments{Change: c.Number} }

// OnSource is the source branch as an argument.
func (c *Case) OnSource() Arguments { return Arguments{Change: c.Number, Branch: c.Source} }

// MendedBy says that the authors push something else, in a way that the action names.
func (c *Case) MendedBy(o *Outcome, action Action) {
	o.State, o.Who = Missing, c.Authors
	with := c.OnSource()
	if action == DoFold || action == DoReword || action == DoSign || action == DoSignOff {
		with.Branch = c.Target // which the commits begin at
	}
	o.Do(action, with)
}

// AskMaintainers adds that a maintainer has to change the rules, a team or a role.
func (c *Case) AskMaintainers(o *Outcome) {
	o.Steps = append(o.Steps, Step{DoChangeRules, Arguments{}, c.Maintainers()})
}

// Maintainers lists those of the repository, people only, by login.
func (c *Case) Maintainers() []string {
	who := []string{}
	for _, p := range c.People.Among(maintainers) {
		if !p.Robot && !p.Standby {
			who = append(who, p.Login)
		}
	}
	return who
}

// NoAuthors lists those who may write and are no author, people only, by login.
func (c *Case) NoAuthors() []string {
	who := []string{}
	for _, p := range c.People.Among(Writers) {
		if !p.Robot && !p.Standby && !slices.Contains(c.Authors, p.Login) {
			who = append(who, p.Login)
		}
	}
	return who
}
