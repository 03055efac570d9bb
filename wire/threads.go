package wire

import "time"

// Thread is a discussion about a change: on lines, a file, a commit or the whole.
type Thread struct {
	ID          int64      `json:"id"`
	Revision    int        `json:"revision" doc:"the one that was looked at"`
	Commit      string     `json:"commit,omitempty" doc:"of a commit; absent: of the whole difference"`
	Path        string     `json:"path,omitempty" doc:"of a file; absent: of the change or commit"`
	Before      bool       `json:"before,omitempty" doc:"the lines are those of the file before the change"`
	FirstLine   int        `json:"first_line,omitempty" doc:"as it was said, counted from 1; absent: the whole file"`
	LastLine    int        `json:"last_line,omitempty"`
	Quoted      string     `json:"quoted,omitempty" doc:"the lines as they were"`
	Now         *Lines     `json:"now,omitempty" doc:"where the lines are in the newest revision; absent: they are gone, or it is not about lines"`
	Gone        bool       `json:"gone" doc:"what it is about is not in the newest revision any more"`
	Where       string     `json:"where" doc:"in words"`
	NeedsAnswer bool       `json:"needs_answer" doc:"false: a comment that needs none and never blocks"`
	BegunBy     string     `json:"begun_by"`
	BegunAt     time.Time  `json:"begun_at"`
	Resolved    bool       `json:"resolved"`
	ResolvedBy  string     `json:"resolved_by,omitempty"`
	ResolvedAt  *time.Time `json:"resolved_at,omitempty"`
	Outcome     string     `json:"outcome,omitempty" doc:"what was decided, or the ticket that continues it"`
	Comments    []Comment  `json:"comments" doc:"oldest first"`
}

// Lines are lines of a file.
type Lines struct {
	Path  string `json:"path"`
	First int    `json:"first" doc:"counted from 1"`
	Last  int    `json:"last"`
}

// Comment is what somebody said in a thread.
type Comment struct {
	ID         int64            `json:"id"`
	By         string           `json:"by"`
	Text       string           `json:"text" doc:"Markdown"`
	HTML       string           `json:"html" doc:"the text laid out, safe to show"`
	Suggestion *string          `json:"suggestion,omitempty" doc:"what the discussion's lines should be; empty: they should go; absent: nothing is suggested"`
	AppliedAs  string           `json:"applied_as,omitempty" doc:"the commit that applied the suggestion"`
	AppliedBy  string           `json:"applied_by,omitempty"`
	CreatedAt  time.Time        `json:"created_at"`
	EditedAt   *time.Time       `json:"edited_at,omitempty"`
	Earlier    []CommentVersion `json:"earlier,omitempty" doc:"what it said before it was edited, oldest first"`
}

// CommentVersion is what a comment said before it was edited.
type CommentVersion struct {
	Text  string    `json:"text"`
	Until time.Time `json:"until"`
}

// DraftComment is a comment for a review that is not sent yet. Only who gathered it sees it.
type DraftComment struct {
	ID          int64     `json:"id"`
	Thread      int64     `json:"thread,omitempty" doc:"the discussion it replies in; absent: it begins one"`
	Where       string    `json:"where" doc:"in words"`
	Revision    int       `json:"revision" doc:"the one that was looked at"`
	Path        string    `json:"path,omitempty"`
	FirstLine   int       `json:"first_line,omitempty"`
	LastLine    int       `json:"last_line,omitempty"`
	Before      bool      `json:"before,omitempty"`
	NeedsAnswer bool      `json:"needs_answer"`
	Text        string    `json:"text"`
	Suggestion  *string   `json:"suggestion,omitempty"`
	CreatedAt   time.Time `json:"created_at"`
}

// Laid is a text laid out.
type Laid struct {
	HTML string `json:"html" doc:"safe to show"`
}
