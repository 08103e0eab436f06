package mongodb

import (
	"strconv"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// The numbers of errors that are asked for by name ("Error Codes", the server's manual).
const (
	unauthorized         = 13
	authenticationFailed = 18
	commandNotFound      = 59
)

// byNumber maps the server's numbers to findings.
var byNumber = map[int32]finding.Code{
	11:                   finding.LoginRefused, // no such user
	unauthorized:         finding.QueryNoRight,
	authenticationFailed: finding.LoginRefused,
	334:                  finding.LoginMethodNotSupported,
	8000:                 finding.LoginRefused, // of hosted servers
	91:                   finding.DatabaseShuttingDown,
	11600:                finding.DatabaseShuttingDown,
	10107:                finding.QueryReadOnly, // not the primary
	13435:                finding.QueryReadOnly,
	commandNotFound:      finding.QuerySyntax,
	40415:                finding.QuerySyntax,
	9:                    finding.QuerySyntax,
	26:                   finding.QueryNoSuchObject,
	48:                   finding.QueryExistsAlready,
	50:                   finding.QueryOverTime,
	11000:                finding.QueryConstraint,
	121:                  finding.QueryConstraint,
	14:                   finding.QueryWrongType,
}

func numbered(number int32) string { return strconv.Itoa(int(number)) }

// refusal gives the *finding.Problem of an answer that is an error, nil where it is none.
func refusal(answer bson.Raw, leg string) error {
	ok, is := answer.Lookup("ok").AsInt64OK()
	if f, double := answer.Lookup("ok").DoubleOK(); double {
		ok, is = int64(f), true
	}
	if b, boolean := answer.Lookup("ok").BooleanOK(); boolean {
		ok, is = map[bool]int64{true: 1}[b], true
	}
	if is && ok == 1 {
		return nil
	}
	words, _ := answer.Lookup("errmsg").StringValueOK()
	n, _ := answer.Lookup("code").AsInt64OK()
	p := &finding.Problem{Code: finding.Of(leg, "unknown"), Number: outside.Said(numbered(int32(n))),
		Words: outside.Said(words), Facts: finding.Facts{}}
	code := byNumber[int32(n)]
	switch {
	case code == "":
	case code.Leg() == leg:
		p.Code = code
	case code == finding.DatabaseShuttingDown && leg != "query":
		p.Code = code
	case code == finding.DatabaseShuttingDown:
		p.Code = finding.QueryClosed
	case code == finding.QueryNoRight && leg == "database":
		p.Code = finding.DatabaseNoRight
	}
	return p
}
