package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"

	data "tavrin/demo"
)

// step is one command of the story: who types it, what it is, and what has to come of it.
type step struct {
	say    string // a line of narration before it
	by     string
	run    string // a shell command
	status int    // the exit status it has to have
	shows  string // a regular expression that its output has to match; its first group, if any, is remembered
	as     string // under this name, for ${name} in later commands
	write  string // before it: a file to write, as PATH\nCONTENT
	needs  string // a program without which it is left out, and says so
}

var story = []step{
	{say: "Ines, a maintainer, looks at what protects the trunk.", by: "ines",
		run: "git clone -q ${url}/git/growers/irrigation.git work && cd work && tavrin rules explain --branch main", shows: `(?s)Nobody pushes to it directly.*fixed by house growers`},
	{say: "She has a stricter document in mind. Before it can hurt, she asks what is wrong with it.", by: "ines",
		run: "cd work && tavrin rules lint ../too-strict.rules.yaml", status: 3,
		write: "too-strict.rules.yaml\n" + data.TooStrict(), shows: `(?s)blocked: .*asks for 5, and team:hydraulics are 2.*blocked: check "soil-probe" can be reported by nobody`},
	{say: "And what would it have done to what is open, and to what landed?", by: "ines",
		run: "cd work && tavrin rules try ../too-strict.rules.yaml", shows: `(?s)\+ +Everybody at the pump house: 5 approvals from team:hydraulics.*open changes`},
	{say: "She leaves it. That the rules in force do what is meant, examples show.", by: "ines",
		run:   "cd work && tavrin rules test ../irrigation.examples.yaml",
		write: "irrigation.examples.yaml\n" + data.Examples(), shows: `8 as expected, 0 otherwise`},
	{say: "Tamsin commits a change and, by mistake, pushes it to main.", by: "tamsin",
		run: "cd work && git pull -q && git commit -qam 'Raise the east limit' && git push origin main", status: 1,
		write: "work/forecast/limits.txt\neast 45\nwest 35\n", shows: `(?s)Refused by "common ground" \(house growers, rules version 1.*git switch -c (tamsin/main-[0-9a-f]+) `, as: "branch"},
	{say: "Nothing has moved. She does what the answer says: the same commits, on a branch of their own.", by: "tamsin",
		run: "cd work && git switch -qc ${branch} && git push -u origin ${branch}", shows: `tavrin change open`},
	{by: "tamsin", run: "cd work && git fetch -q origin && git branch -qf main origin/main && git status -sb", shows: `## tamsin/main-`},
	{by: "tamsin", run: "cd work && tavrin change open --source ${branch} --target main --title 'Raise the east " +
		"limit'", shows: `opened change (\d+)`, as: "n"},
	{say: "Its description began with the repository's checklist. She fills it in.", by: "tamsin",
		run: "cd work && tavrin change edit ${n} --description 'The east plot dries out by noon.\n\n- [x] tried on " +
			"the bench or a spare plot'", shows: `is open, at revision 1 for main`},
	{say: "She asks for it to land when it may, and need not come back.", by: "tamsin",
		run: "cd work && tavrin queue join ${n} --strategy squash", shows: `it lands by itself`},
	{say: "What still stands between it and main?", by: "tamsin", run: "cd work && tavrin change gate ${n}", status: 3,
		shows: `(?s)Not ready.*owner of forecast.*pavo could give it`},
	{say: "Her own approval does not count, and the gate says so.", by: "tamsin",
		run: "cd work && tavrin review approve ${n} --revision 1 && tavrin change gate ${n}", status: 3, shows: `an author of the change`},
	{say: "Pavo, who owns the forecast, reads it and approves.", by: "pavo",
		run: "tavrin --repo growers/irrigation change diff ${n} && tavrin --repo growers/irrigation review approve " +
			"${n} --revision 1", shows: `(?s)\+east 45.*approval of revision 1`},
	{say: "The gate is ready: the queue rehearses the change on main's tip and runs the checks there.", by: "tamsin",
		run: "cd work && sleep 1 && tavrin queue show", shows: `(?s)Change ${n} is.*(rehears|queued)`},
	{by: "tamsin", run: "cd work && tavrin change wait ${n} --until landed --timeout 60s",
		shows: `landed on main as ([0-9a-f]{40})`, as: "landed"},
	{say: "What was tested is what landed, and the statement says why it was allowed.", by: "ines",
		run: "cd work && git fetch -q --prune && git log -1 --format='%H%n%B' origin/main && tavrin check list " +
			"${landed}", shows: `(?s)${landed}.*Approved-by: Pavo Lind.*unit +passed`},
	{by: "ines", run: "cd work && tavrin change landing ${n} && git branch -r",
		shows: `(?s)judged under +rules version 1.*origin/main\s*$`},
	{say: "A change whose tests fail on the rehearsal is ejected, and main stays whole.", by: "tamsin",
		run: "cd work && git checkout -q -b tamsin/flood origin/main && git status -sb", shows: `tamsin/flood`},
	{by: "tamsin", run: "cd work && git commit -qam 'Flood the west field' && git push -q origin tamsin/flood && " +
		"tavrin change open --source tamsin/flood --title 'Flood the west field' --description 'Rice, perhaps.'",
		write: "work/forecast/limits.txt\neast 45\nwest 350\n", shows: `opened change (\d+)`, as: "m"},
	{by: "pavo", run: "tavrin --repo growers/irrigation review approve ${m} --revision 1 && tavrin --repo " +
		"growers/irrigation queue join ${m}", shows: `in the queue of main`},
	{by: "tamsin", run: "cd work && tavrin change wait ${m} --until landed --timeout 60s", status: 4,
		shows: `ejected: red twice by itself.*unit failed`},
	{say: "Wren has an idea about the west valve. What would it meet? Nothing is opened for that.", by: "wren",
		run: "git clone -q ${url}/git/growers/irrigation.git field && cd field && git switch -q -c wren/gently && " +
			"cp ../west.prog firmware/valves/west.prog && git commit -qam 'Close the west valve gently' && tavrin " +
			"change preview --here",
		write: "west.prog\nopen west 06:30\nwait 33\nease west 2\nclose west\n", shows: `(?s)it merges.*would be asked: team:hydraulics.*an owner of valves`},
	{by: "wren", run: "cd field && git push -q origin wren/gently && tavrin change open --source wren/gently " +
		"--title 'FEN-52: close the west valve gently' --draft", shows: `opened change (\d+)`, as: "g"},
	{say: "Odo reads it, gathers what he has to say, suggests a line, and sends it all at once with an objection.",
		by: "odo", run: "tavrin thread begin ${g} ${R} --path firmware/valves/west.prog --lines 2 --suggest 'wait " +
			"35' --text '33 minutes leave the **last rows** dry.' --draft && tavrin thread begin ${g} ${R} --text 'Has " +
			"anybody rung the west growers?' --draft && tavrin review object ${g} ${R} --revision 1 --text 'Too " +
			"short as it is' --drafts", shows: `(?s)draft 1.*draft 2.*objection of revision 1 is on record`},
	{say: "Wren takes the suggestion in with one command: a commit of hers, with Odo as co-author.", by: "wren",
		run: "cd field && tavrin thread list ${g} && tavrin thread apply ${g} 1 && git pull -q --ff-only origin " +
			"wren/gently && git log -1 --format=%an:%n%B", shows: `(?s)\+ wait 35.*applied as.*Wren Askew:.*Co-authored-by: Odo Marsh`},
	{by: "wren", run: "cd field && tavrin thread resolve ${g} 2 --text 'Pavo did, on Monday' && tavrin change " +
		"edit ${g} --draft=false --description '- [x] tried on the bench or a spare plot'", shows: `is open, at revision 2`},
	{say: "Odo looks at what came since he last looked, and takes his objection back. His own word counts no more: " +
		"he is an author now.", by: "odo", run: "tavrin change diff ${g} --new ${R} && tavrin review withdraw ${g} " +
		"${R} && tavrin review approve ${g} --revision 2 ${R} && tavrin change gate ${g} ${R}", status: 3, shows: `(?s)\+wait 35.*your objection is withdrawn.*odo's approval does not count: an author`},
	{say: "So a second reviewer reads it. Ines ticks the file as read, and approves.", by: "ines",
		run: "tavrin change read ${g} firmware/valves/west.prog ${R} && tavrin review approve ${g} --revision 2 " +
			"${R} && tavrin change gate ${g} ${R}", shows: `(?s)ticked as read.*Ready for main`},
	{say: "Wren corrects a word with a fixup, which is another difference, and has it looked at again; then she folds " +
		"it, on the newest main, which is not.", by: "wren", run: "cd field && echo '# eased since November' >> " +
		"firmware/valves/west.prog && git commit -qa --fixup HEAD && git push -q origin wren/gently && tavrin " +
		"change gate ${g}", status: 3, shows: `ines approved revision 2, and the difference has changed since`},
	{by: "ines", run: "tavrin --repo growers/irrigation review approve ${g} --revision 3",
		shows: `approval of revision 3`},
	{by: "wren", run: "cd field && git fetch -q && GIT_SEQUENCE_EDITOR=true git rebase -q -i --autosquash " +
		"origin/main && git push -q --force-with-lease origin wren/gently && tavrin change show ${g} -o json | grep " +
		"-E '\"revision\": 4|Ready' && tavrin queue join ${g} && tavrin change wait ${g}", shows: `(?s)Ready for main.*landed on main as`},
	{say: "Tamsin's ejected change goes to a release line instead, at its newest state. What was said of it stays; " +
		"another branch's rules judge it now.", by: "ines", run: "cd work && git fetch -q && git push -q origin " +
		"origin/main:refs/heads/release/1 && tavrin change edit ${m} --target release/1", shows: `is open, at revision 2 for release/1`},
	{by: "tamsin", run: "cd work && tavrin change update ${m} && tavrin change show ${m}",
		shows: `(?s)tamsin/flood has everything of release/1 now; change ${m} is at revision 3.*to release/1`},
	{say: "Tamsin signs what she commits. Whose key that is, is the service's to say.", needs: "ssh-keygen",
		by: "tamsin", run: "ssh-keygen -q -t ed25519 -N '' -C fennmoor -f signing && tavrin key add signing.pub && " +
			"cd work && git fetch -q && git checkout -q -b tamsin/signed origin/main && echo 'dew counts for half' > " +
			"forecast/dew.txt && git add -A && git -c gpg.format=ssh -c user.signingkey=../signing commit -q -S -m " +
			"'Note the dew' && git push -q origin tamsin/signed && tavrin change open --source tamsin/signed --title " +
			"'FEN-61: note the dew' --description 'For the record.' && tavrin change commits 4", shows: `signed by tamsin`},
	{say: "At night the east ditch floods. Odo is on duty: he may waive requirements, but has to confirm " +
		"exactly which.", by: "tamsin", run: "cd work && git fetch -q && git checkout -q -b tamsin/pump origin/main " +
		"&& echo 'east off' > forecast/pumps.txt && git add -A && git commit -qm 'Keep the east pump off' && git " +
		"push -q origin tamsin/pump && tavrin change open --source tamsin/pump --title 'FEN-60: keep the east pump " +
		"off' --description 'The ditch is over its edge.'", shows: `opened change (\d+)`, as: "o"},
	{by: "odo", run: "tavrin --repo growers/irrigation waiver land ${o} --requirement approvals --requirement " +
		"owners/forecast --reason 'the east ditch floods, and nobody else is awake'", status: 3, shows: `(?s)This would waive:.*1 approval, not the last pusher's.*check unit passes.*--confirm ([0-9a-f]+)`, as: "code"},
	{by: "odo", run: "tavrin --repo growers/irrigation waiver land ${o} --requirement approvals --requirement " +
		"owners/forecast --reason 'the east ditch floods, and nobody else is awake' --confirm ${code} && tavrin " +
		"--repo growers/irrigation change wait ${o}", shows: `(?s)may land on main until.*landed on main as`},
	{say: "There is no silent way: it is on Ines's desk until she has acknowledged it, and in the history for good.",
		by: "ines", run: "tavrin desk && tavrin --repo growers/irrigation waiver acknowledge 1 --text 'Right so: the " +
			"pump has to stay off' && tavrin --repo growers/irrigation browse history --limit 3", shows: `(?s)to acknowledge.*acknowledged by ines.*waiver 1`},
	{say: "Three changes are to land in one line, each its own way: two commits as one, a fixup folded into what it mends, and " +
		"commits replayed below a merge commit.", by: "tamsin",
		run: "cd work && git fetch -q && git checkout -q -b docs/tanks origin/main && echo 'Tanks are rinsed in March.' > docs/tanks.md && git " +
			"add -A && git commit -qm 'Say when tanks are rinsed' && echo 'Twice.' >> docs/tanks.md && git commit -qam 'Twice' && git push -q " +
			"origin docs/tanks && tavrin change open --source docs/tanks --title 'Say when tanks are rinsed' --description 'Asked every spring.'",
		shows: `opened change (\d+)`, as: "sq"},
	{by: "tamsin", run: "cd work && git checkout -q -b docs/hoses origin/main && echo 'Hoses hang in the barrn.' > docs/hoses.md && git add -A && git " +
		"commit -qm 'Say where hoses hang' && echo 'Hoses hang in the barn.' > docs/hoses.md && git commit -qa --fixup HEAD && git push -q origin " +
		"docs/hoses && tavrin change open --source docs/hoses --title 'Say where hoses hang' --description 'For new members.'", shows: `opened change (\d+)`, as: "fo"},
	{by: "tamsin", run: "cd work && git checkout -q -b docs/gates origin/main && echo 'Gates are oiled.' > docs/gates.md && git add -A && git " +
		"commit -qm 'Have gates oiled' && echo 'In May.' >> docs/gates.md && git commit -qam 'Say when' && git push -q origin docs/gates && tavrin " +
		"change open --source docs/gates --title 'Have gates oiled' --description 'They squeak.'", shows: `opened change (\d+)`, as: "me"},
	{by: "pavo", run: "tavrin ${R} review approve ${sq} --revision 1 && tavrin ${R} review approve ${fo} --revision 1 && tavrin ${R} review approve ${me} " +
		"--revision 1", shows: `(?s)approval of revision 1.*approval of revision 1.*approval of revision 1`},
	{say: "What a landing would bring can be seen before it does.", by: "tamsin", run: "cd work && tavrin queue preview ${fo} --strategy fold && tavrin queue join ${sq} " +
		"--strategy squash && tavrin queue join ${fo} --strategy fold && tavrin queue join ${me} --strategy rebase-then-merge && tavrin change wait ${me} --timeout 120s",
		shows: `(?s)1 commit\n.*Say where hoses hang.*landed on main as`},
	{by: "tamsin", run: "cd work && git fetch -q --prune && git log --graph --format=%s -6 origin/main",
		shows: `(?s)\*   Have gates oiled\n\|\\  \n\| \* Say when\n\| \* Have gates oiled\n\|/  \n\* Say where hoses hang\n\* Say when tanks are rinsed`},
	{say: "While the harvest is weighed nothing is to land. Four more changes join all the same: one of them would flood a field, and " +
		"one is for a valve whose new seal drips the first time it is tried.", by: "ines",
		run: "tavrin queue hold ${R} --reason 'the harvest is weighed'", shows: `is held: tavrin queue free`},
	{by: "tamsin", run: "cd work && git fetch -q && git checkout -q -b docs/nozzles origin/main && echo 'Nozzles are counted.' > docs/nozzles.md && git add -A && git commit " +
		"-qm 'Count the nozzles' && git push -q origin docs/nozzles && tavrin change open --source docs/nozzles --title 'Count the nozzles' --description 'Some are missing.'",
		shows: `opened change (\d+)`, as: "q1"},
	{by: "tamsin", run: "cd work && git checkout -q -b tamsin/paddy origin/main && echo 'north 350' >> forecast/limits.txt && git commit -qam 'Flood the north field' && git push " +
		"-q origin tamsin/paddy && tavrin change open --source tamsin/paddy --title 'Flood the north field' --description 'Rice, once more.'", shows: `opened change (\d+)`, as: "q2"},
	{by: "wren", run: "cd field && git fetch -q && git checkout -q -b docs/ladders origin/main && echo 'Ladders stand in the barn.' > docs/ladders.md && git add -A && git commit " +
		"-qm 'Say where ladders stand' && git push -q origin docs/ladders && tavrin change open --source docs/ladders --title 'Say where ladders stand' --description 'Two were lost.'",
		shows: `opened change (\d+)`, as: "q3"},
	{by: "wren", run: "cd field && git checkout -q -b wren/seal origin/main && echo '# new seal' >> firmware/valves/east.prog && git commit -qam 'Note the new seal' && git push -q " +
		"origin wren/seal && tavrin change open --source wren/seal --title 'FEN-52: note the new seal' --description 'Since Tuesday.'", shows: `opened change (\d+)`, as: "q4"},
	{by: "pavo", run: "echo ${q1} ${q2} ${q3} | xargs -n 1 tavrin ${R} review approve --revision 1", shows: `(?s)approval.*approval.*approval`},
	{by: "odo", run: "tavrin ${R} review approve ${q4} --revision 1", shows: `approval of revision 1`},
	{say: "They are rehearsed at once, each on what is ahead of it, as if that had landed.", by: "wren",
		run:   "cd field && echo ${q1} ${q2} ${q3} ${q4} | xargs -n 1 tavrin queue join --strategy rebase && sleep 2 && tavrin queue show",
		shows: `(?s)main is held by ines.*WHAT STANDS ON MAIN.* < ${q1}`},
	{say: "The queue goes on. The one is found out among the four and ejected, after it has failed by itself, twice; the seal has settled.", by: "ines",
		run: "tavrin queue free ${R} --reason 'weighed' && echo ${q1} ${q3} ${q4} | xargs -n 1 tavrin ${R} change wait --timeout 120s", shows: `(?s)landed on main.*landed on main.*landed on main`},
	{by: "tamsin", run: "cd work && tavrin change wait ${q2} --timeout 120s", status: 4, shows: `ejected: red twice by itself.*unit failed`},
	{say: "What was decided about the valve, and why?", by: "wren", run: "cd field && tavrin queue decisions ${q4}", shows: `(?s)(ask for the checks once more|red by nobody's fault).*land`},
	{say: "Wren has written of tanks too, before she saw that. She is told as soon as it is known, whose change it is, and what to do.", by: "wren",
		run: "cd field && git checkout -q -b docs/rinsing ${landed} && echo 'Tanks are rinsed in April.' > docs/tanks.md && git add -A && git commit -qm " +
			"'Say when to rinse' && git push -q origin docs/rinsing && tavrin change open --source docs/rinsing --title 'Say when to rinse' --description " +
			"'In April.'", shows: `(?s)opened change (\d+).*conflicts +with main in docs/tanks.md`, as: "c"},
	{by: "wren", run: "cd field && tavrin change conflicts ${c}", shows: `(?s)docs/tanks.md.*added on both sides.*change ${sq}.*rinsed in March.*rinsed in April.*git rebase origin/main`},
	{say: "She is right: it is April. What landed is taken back by a change of its own, through the same gate; hers goes next.", by: "wren",
		run: "cd field && tavrin change undo ${sq} --reason 'it is April'", shows: `opened change (\d+) from undo-${sq}`, as: "u"},
	{by: "pavo", run: "tavrin ${R} review approve ${u} --revision 1 && tavrin ${R} review approve ${c} --revision 1", shows: `approval of revision 1`},
	{by: "wren", run: "cd field && tavrin queue join ${u} --strategy squash && tavrin change wait ${u} --timeout 60s && tavrin queue join ${c} && tavrin change wait " +
		"${c} --timeout 60s && git fetch -q && git log --format=%s -3 origin/main && git show origin/main:docs/tanks.md",
		shows: `(?s)Say when to rinse\nUndo change ${sq}: Say when tanks are rinsed\n(Note the new seal|Say where ladders stand)\nTanks are rinsed in April`},
	{say: "How has the queue done, what would more slots have done to it, and does what it decided hold when it is told again what it was told?", by: "ines",
		run:   "tavrin queue numbers ${R} --days 1 && tavrin queue forecast ${R} --days 1 --slots 12 && tavrin queue decisions ${R} --limit 1000 | tail -n 3",
		shows: `(?s)ready to landed.*an oracle, as it is.*land`},
	{say: "From any line to the change that brought it; and what has she missed?", by: "tamsin",
		run: "cd work && tavrin browse blame forecast/limits.txt && tavrin digest", shows: `(?s)Raise the east limit.*ejected`},
	{say: "Everything that was decided or done is in the journal, which nobody can alter unseen.", by: "ines",
		run: "cd work && tavrin journal list --limit 12", shows: `(?s)branch.deleted.*change.landed.*landing.begun.*rehearsal.built`},
	{by: "admin", run: "tavrin journal verify", shows: `unbroken, and records and branches are as it tells`},
}

// Tell plays the whole story on a freshly built world, and prints each command and what really came of it. It
// returns an error when a step did not do what it says.
func (w *World) Tell(ctx context.Context, out io.Writer) error {
	known := map[string]string{"url": w.URL, "R": "--repo " + irrigation}
	expand := func(s string) string {
		return os.Expand(s, func(name string) string { return known[name] })
	}
	told := 0
	for n, s := range story {
		if s.say != "" {
			fmt.Fprintf(out, "\n# %s\n", s.say)
		}
		if _, err := exec.LookPath(s.needs); s.needs != "" && err != nil {
			fmt.Fprintf(out, "(left out: it takes %s, which is not installed here)\n", s.needs)
			continue
		}
		told++
		if s.write != "" {
			path, content, _ := strings.Cut(s.write, "\n")
			fmt.Fprintf(out, "(%s edits %s)\n", s.by, path)
			if err := os.WriteFile(filepath.Join(w.Dir, path), []byte(content), 0o644); err != nil {
				return err
			}
		}
		command := expand(s.run)
		fmt.Fprintf(out, "%s$ %s\n", s.by, command)
		cmd := exec.CommandContext(ctx, "sh", "-c", command)
		cmd.Dir, cmd.Env = w.Dir, w.Environment(s.by)
		text, err := cmd.CombinedOutput()
		fmt.Fprintf(out, "%s", text)
		status := 0
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			status = exit.ExitCode()
		} else if err != nil {
			return err
		}
		if status != s.status {
			return fmt.Errorf("step %d ended with status %d, not %d", n+1, status, s.status)
		}
		pattern := s.shows
		for name, value := range known {
			pattern = strings.ReplaceAll(pattern, "${"+name+"}", regexp.QuoteMeta(value))
		}
		match := regexp.MustCompile(pattern).FindStringSubmatch(string(text))
		if match == nil {
			return fmt.Errorf("step %d did not show %q", n+1, pattern)
		}
		if s.as != "" {
			known[s.as] = match[1]
		}
	}
	fmt.Fprintf(out, "\n# All %d steps did what they say.\n", told)
	return nil
}
