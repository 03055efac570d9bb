package client_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log"
	"strings"

	"tavrin/client"
	"tavrin/wire"
)

// A change is opened, and what it still needs is asked for: each requirement says what is missing, and which steps somebody
// can take.
func Example() {
	ctx := context.Background()
	tamsin, err := client.New(address, tokens["tamsin"])
	if err != nil {
		log.Fatal(err)
	}
	k, err := tamsin.OpenChange(ctx, "growers/irrigation", wire.NewChange{
		Source: pushed("evening"), Title: "Open the valves in the evening",
	})
	if err != nil {
		log.Fatal(err)
	}
	gate, err := tamsin.Gate(ctx, "growers/irrigation", k.Number)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(gate.Summary)
	for _, r := range gate.Requirements {
		if r.Holds() {
			continue
		}
		fmt.Println(r.Group, r.Lacks)
		for _, step := range r.Steps {
			fmt.Println(" ", step.Action, step.Who)
		}
	}
	// Output:
	// Not ready for main: needs 1 approval.
	// review needs 1 approval
	//   approve [ines odo]
	// checks unit not run yet
	//   join []
}

// A change is reviewed and joins the queue; a check robot reports on its rehearsal; the stream tells when it has landed.
func Example_landing() {
	ctx := context.Background()
	const repo = "growers/irrigation"
	k, err := as("tamsin").OpenChange(ctx, repo, wire.NewChange{Source: pushed("landing"), Title: "Shut the valves at night"})
	if err != nil {
		log.Fatal(err)
	}
	if _, err := as("odo").Review(ctx, repo, k.Number, wire.NewReview{Verdict: "approve", Revision: k.Revision}); err != nil {
		log.Fatal(err)
	}
	if _, err := as("tamsin").Join(ctx, repo, k.Number, wire.NewEntry{}); err != nil {
		log.Fatal(err)
	}
	err = as("tamsin").Events(ctx, repo, "0", func(e client.Event) bool {
		var details struct{ Commit, For string }
		if err := json.Unmarshal(e.Data.Details, &details); err != nil {
			log.Fatal(err)
		}
		switch {
		case e.Type == "tavrin.check.asked" && strings.HasPrefix(details.For, "rehearsal/"):
			_, err := as("barn").ReportCheck(ctx, repo, wire.NewReport{Commit: details.Commit, Name: "unit", State: "passed"})
			if err != nil {
				log.Fatal(err)
			}
		case e.Type == "tavrin.change.landed":
			fmt.Println(e.Type)
			return false
		}
		return true
	})
	if err != nil {
		log.Fatal(err)
	}
	landing, err := as("odo").Landing(ctx, repo, k.Number)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(landing.Strategy, "by", landing.LandedBy, "approved by", landing.Report.Approvers)
	// Output:
	// tavrin.change.landed
	// rebase by tamsin approved by [odo]
}

// What the service refuses is a *Problem, with the status and a sentence for people.
func ExampleProblem() {
	_, err := as("tamsin").Change(context.Background(), "growers/irrigation", 4711)
	if p, ok := errors.AsType[*client.Problem](err); ok {
		fmt.Println(p.Status)
		fmt.Println(p)
	}
	// Output:
	// 404
	// growers/irrigation has no change 4711
}

// Every call of the API can be made by its name, with the type of its request.
func ExampleDo() {
	me, err := client.Do(context.Background(), as("odo"), wire.GetMe, wire.Nothing{})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(me.Login, me.Admin)
	// Output:
	// odo false
}
