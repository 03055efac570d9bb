package wire

// Task is work that takes longer than a call may, as far as it is. Of what may come of it, one is there once it is ready.
type Task struct {
	ID      string  `json:"id"`
	What    string  `json:"what" doc:"what is done"`
	State   string  `json:"state" enum:"running,ready,failed,stopped"`
	Done    float64 `json:"done" doc:"the share that is done, from 0 to 1"`
	Words   string  `json:"words,omitempty" doc:"how far it is"`
	Problem string  `json:"problem,omitempty" doc:"why it failed"`

	Head  *SignedHead `json:"head,omitempty" doc:"of verifying the journal: its head, signed"`
	From  int64       `json:"from,omitempty" doc:"of verifying the journal: the line up to which it had been verified before; absent: all of it was read"`
	Trial *RulesTrial `json:"trial,omitempty" doc:"of trying rules: what they would change"`
}

// InTask names a task.
type InTask struct {
	ID string `path:"id" doc:"of the task"`
}
