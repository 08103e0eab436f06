package oracle

import (
	"fmt"
	"regexp"
	"strconv"
	"sync"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// byNumber maps the numbers of the listener and of the server ("Database Error Messages", the
// engine's documentation) to findings.
var byNumber = map[int]finding.Code{
	12514: finding.GreetingNoService,
	12504: finding.GreetingNoService, // none was named
	12505: finding.GreetingNoInstance,
	12521: finding.GreetingNoInstance,
	12516: finding.GreetingNotReady,
	12518: finding.GreetingNotReady,
	12519: finding.GreetingNotReady,
	12520: finding.GreetingNotReady,
	12523: finding.GreetingNotReady,
	12526: finding.GreetingRestricted,
	12527: finding.GreetingRestricted,
	12528: finding.GreetingNotReady,
	12529: finding.GreetingFiltered,
	12546: finding.GreetingFiltered,
	12650: finding.GreetingOwnEncryption,
	12660: finding.GreetingOwnEncryption,
	12269: finding.GreetingOwnEncryption,

	1017:  finding.LoginRefused,
	1005:  finding.LoginPasswordWanted,
	28000: finding.LoginLocked,
	28001: finding.LoginPasswordExpired,
	28040: finding.LoginOldVerifier, // no method that both allow
	28009: finding.LoginModeRefused,
	28030: finding.LoginUnknown,
	1031:  finding.LoginModeRefused,
	1045:  finding.LoginNoSession,

	1033:  finding.DatabaseNotReady,
	1034:  finding.DatabaseStopped,
	27101: finding.DatabaseStopped,
	1109:  finding.DatabaseNotOpen,
	1219:  finding.DatabaseNotOpen,
	1507:  finding.DatabaseNotOpen,
	1035:  finding.DatabaseRestricted,
	1089:  finding.DatabaseShuttingDown,
	1090:  finding.DatabaseShuttingDown,
	1092:  finding.DatabaseShuttingDown,
	18:    finding.DatabaseTooManyConnections,
	20:    finding.DatabaseTooManyConnections,
	2391:  finding.DatabaseUserLimit,

	900:   finding.QuerySyntax,
	903:   finding.QuerySyntax,
	905:   finding.QuerySyntax,
	906:   finding.QuerySyntax,
	907:   finding.QuerySyntax,
	911:   finding.QuerySyntax,
	917:   finding.QuerySyntax,
	923:   finding.QuerySyntax,
	933:   finding.QuerySyntax,
	936:   finding.QuerySyntax,
	1756:  finding.QuerySyntax,
	904:   finding.QueryNoSuchObject,
	942:   finding.QueryNoSuchObject,
	4043:  finding.QueryNoSuchObject,
	2289:  finding.QueryNoSuchObject,
	955:   finding.QueryExistsAlready,
	1:     finding.QueryConstraint,
	1400:  finding.QueryConstraint,
	2290:  finding.QueryConstraint,
	2291:  finding.QueryConstraint,
	2292:  finding.QueryConstraint,
	54:    finding.QueryInUse,
	60:    finding.QueryDeadlock,
	8177:  finding.QueryConflict,
	1456:  finding.QueryReadOnly,
	16000: finding.QueryReadOnly,
	1013:  finding.QueryStopped,
	28:    finding.QueryClosed,
	2396:  finding.QueryClosed,
	1012:  finding.QueryClosed,
	3113:  finding.QueryClosed,
	3135:  finding.QueryClosed,
	2399:  finding.QueryOverTime,
	1722:  finding.QueryWrongType,
	1830:  finding.QueryWrongType,
	1841:  finding.QueryWrongType,
	1858:  finding.QueryWrongType,
	932:   finding.QueryWrongType,
	1438:  finding.QueryOutOfRange,
	12899: finding.QueryOutOfRange,
	1426:  finding.QueryOutOfRange,
	1653:  finding.QueryDiskFull,
	1654:  finding.QueryDiskFull,
	1536:  finding.QueryDiskFull,
}

// prefixOf gives the letters before a number: the listener and the connections to it have their
// own.
func prefixOf(number int) string {
	if number >= 12150 && number < 12700 {
		return "TNS"
	}
	return "ORA"
}

// numbered writes a number as people know it, such as ORA-01017.
func numbered(number int) string { return fmt.Sprintf("%s-%05d", prefixOf(number), number) }

// numbersOf finds the number of an error in a listener's answer: (ERR=12514), or (CODE=12514) in
// its list of errors.
var numbersOf = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)\(\s*(?:ERR|CODE)\s*=\s*(\d{1,6})\s*\)`)
})

func numberOf(text []byte) string {
	if met := numbersOf().FindSubmatch(text); met != nil {
		return string(met[1])
	}
	return ""
}

// failure gives the *finding.Problem of an error that the server sent. What is about the login or
// the database while a session is opened is about what a statement names from then on.
func failure(o outcome, leg string) error {
	code := byNumber[o.number]
	p := &finding.Problem{Code: code, Number: outside.Said(numbered(o.number)), Words: outside.Said(o.message),
		Facts: finding.Facts{}}
	if leg == "query" {
		switch {
		case code == finding.LoginModeRefused:
			p.Code = finding.QueryNoRight
		case code == finding.DatabaseShuttingDown, code == finding.DatabaseStopped:
			p.Code = finding.QueryClosed
		case code.Leg() != "query":
			p.Code = finding.QueryUnknown
		}
		if p.Code == finding.QuerySyntax || p.Code == finding.QueryNoSuchObject {
			p.At = o.position
		}
		return p
	}
	if code == "" || code.Leg() == "query" || code.Leg() == "greeting" {
		p.Code = finding.LoginUnknown
	}
	return p
}

// versionText gives a version as a server numbers it: the parts have other places from 18c on
// (node-oracledb, lib/thin/connection.js).
func versionText(n int64, fields int64) string {
	part := func(shift, mask int64) string { return strconv.FormatInt(n>>shift&mask, 10) }
	if fields >= fields18 {
		return part(24, 0xff) + "." + part(16, 0xff) + "." + part(12, 0xf) + "." + part(4, 0xff) + "." + part(0, 0xf)
	}
	return part(24, 0xff) + "." + part(20, 0xf) + "." + part(12, 0xff) + "." + part(8, 0xf) + "." + part(0, 0xff)
}

const fields18 = 11
