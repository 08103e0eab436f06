package finding

// Entry is what the catalogue holds for a code.
type Entry struct {
	Code  Code
	Cause string
	// Waiting says that it may go away by itself: a server that is starting, a port that is not
	// open yet.
	Waiting bool
	// Try holds remedies, best first. In their texts {name} is filled in as it is, {name!} as one
	// word of a shell's command line, {name@} so for a shell on another machine, {name?} as the
	// line that shows whose a file is, and {name"} as a quoted name inside SQL. In a command,
	// {subject} is the profile with the flags of the run.
	Try []Remedy
}
