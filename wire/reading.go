package wire

// Diff is what a revision, a commit, or what came between two revisions brings.
type Diff struct {
	Number   int        `json:"number"`
	Revision int        `json:"revision"`
	Since    int        `json:"since,omitempty" doc:"the revision it is compared with; absent: with its base"`
	Commit   string     `json:"commit,omitempty" doc:"the one commit that is shown; absent: all of them"`
	Base     string     `json:"base" doc:"commit or tree that it is compared with"`
	Head     string     `json:"head"`
	Files    []FileDiff `json:"files"`
	NotTaken []string   `json:"not_taken_out" doc:"files in which what came only from the target could not be told from what the author changed: they show both"`
	Patch    string     `json:"patch,omitempty" doc:"unified diff; absent when only the files were asked for"`
	Partial  bool       `json:"partial" doc:"the patch was cut"`
	Looked   int        `json:"looked,omitempty" doc:"the revision up to which you have looked at it; absent: none"`
}

// FileDiff is one file of a difference.
type FileDiff struct {
	File       string `json:"file" doc:"names the file in other calls, whatever its path is made of"`
	Path       string `json:"path" doc:"what is not UTF-8 in it is replaced"`
	OldPath    string `json:"old_path,omitempty" doc:"of a rename"`
	Status     string `json:"status" enum:"added,deleted,changed,renamed,type changed"`
	Similarity int    `json:"similarity,omitempty" doc:"of a rename, in percent; 100: only moved"`
	OldMode    string `json:"old_mode,omitempty" doc:"as Git writes it; only where the mode differs"`
	NewMode    string `json:"new_mode,omitempty"`
	Added      int    `json:"added"`
	Removed    int    `json:"removed"`
	Binary     bool   `json:"binary"`
	Generated  bool   `json:"generated" doc:"made by a program, by its name"`
	// Notes are what the lines do not show.
	Notes []string `json:"notes" doc:"what the lines do not show: the modes, a link, a submodule, bytes that text does not have"`
	Read  bool     `json:"read" doc:"you ticked it as read, and it has not changed since"`
}

// FilePatch is one file of a difference with its text.
type FilePatch struct {
	FileDiff
	Patch   string `json:"patch" doc:"unified diff; what is not UTF-8 is replaced"`
	Partial bool   `json:"partial" doc:"the patch was cut"`
}
