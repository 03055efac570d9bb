package git

import (
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

var idForm = regexp.MustCompile(`^[0-9a-f]{40}$`)

// ZeroID stands for "no commit" in Git's protocols.
const ZeroID = "0000000000000000000000000000000000000000"

// MaxRefName is the longest name of a ref, in bytes: what file systems take.
const MaxRefName = 250

// IsID says whether the text is a whole object id: forty hexadecimal digits in lower case.
func IsID(text string) bool { return idForm.MatchString(text) }

// CheckBranch says what is wrong with a branch name given without refs/heads/, if anything.
func CheckBranch(name string) error {
	if err := plainName(name); err != nil {
		return fmt.Errorf("branch %w", err)
	}
	return CheckRef("refs/heads/" + name)
}

// CheckTag says what is wrong with a tag name given without refs/tags/, if anything.
func CheckTag(name string) error {
	if err := plainName(name); err != nil {
		return fmt.Errorf("tag %w", err)
	}
	return CheckRef("refs/tags/" + name)
}

// pseudo matches what git names states of a work tree by, in the same name space (gitglossary, "pseudoref").
var pseudo = regexp.MustCompile(`(?i)^(@|([A-Z]+_)*HEAD|AUTO_MERGE|NOTES_MERGE_PARTIAL)$`)

// plainName refuses a short name that git, or somebody who reads it, would take for something else: everybody who has
// it in a clone would be misled.
func plainName(name string) error {
	first, _, deeper := strings.Cut(name, "/")
	switch {
	case strings.HasPrefix(name, "-"):
		return fmt.Errorf("name %.80q begins with \"-\", which commands take for an option", name)
	case pseudo.MatchString(name) || deeper && pseudo.MatchString(first):
		return fmt.Errorf("name %.80q is one that git keeps for itself", name)
	case deeper && (first == "refs" || first == "heads" || first == "tags" || first == "remotes"):
		return fmt.Errorf("name %.80q reads like the full name of another ref: leave %q out", name, first+"/")
	case len(name) >= 40 && strings.Trim(strings.ToLower(name), "0123456789abcdef") == "":
		return fmt.Errorf("name %.80q reads like the id of a commit", name)
	}
	return nil
}

// CheckRef says what is wrong with a full ref name, if anything, by the rules of git-check-ref-format(1); invisible
// characters are refused too.
func CheckRef(ref string) error {
	rest, ok := strings.CutPrefix(ref, "refs/")
	if !ok {
		return fmt.Errorf("ref %q does not begin with refs/", ref)
	}
	if len(ref) > MaxRefName {
		return fmt.Errorf("ref name of %d bytes is too long: at most %d", len(ref), MaxRefName)
	}
	if !strings.Contains(rest, "/") {
		return fmt.Errorf("ref %q names no branch or tag", ref)
	}
	for i := 0; i < len(ref); i++ {
		if c := ref[i]; c <= ' ' || c == 0x7f || strings.IndexByte("~^:?*[\\", c) >= 0 {
			return fmt.Errorf("ref %q holds %q, which git does not allow in names", ref, string(rune(c)))
		}
	}
	for _, c := range ref { // such as marks that turn the direction of writing: names are not to look like others
		if unicode.Is(unicode.Cf, c) || c == utf8.RuneError {
			return fmt.Errorf("ref %q holds an invisible character or is not UTF-8", ref)
		}
	}
	if strings.Contains(ref, "..") || strings.Contains(ref, "@{") {
		return fmt.Errorf("ref %q holds \"..\" or \"@{\", which git does not allow in names", ref)
	}
	for part := range strings.SplitSeq(ref, "/") {
		if part == "" || strings.HasPrefix(part, ".") || strings.HasSuffix(part, ".lock") ||
			strings.HasSuffix(part, ".") {
			return fmt.Errorf("ref %q has a part that is empty, begins or ends with \".\", or ends with \".lock\"", ref)
		}
	}
	return nil
}
