package standin

import (
	"crypto/subtle"
	"html/template"
	"net/http"
	"strings"
	"sync"
	"time"
)

// cloudPage is all of the practice cloud's pages: plain HTML without a script, which a keyboard
// and a phone can use.
var cloudPage = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Parse(cloudHTML))
})

const cloudHTML = `<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{.Title}} - Fellside practice cloud</title>
<style>
:root { color-scheme: light dark; }
body { font: 1.1rem/1.5 system-ui, sans-serif; max-width: 34rem; margin: 0 auto; padding: 1.5rem 1rem; }
header { border-bottom: 1px solid; padding-bottom: .5rem; margin-bottom: 1.5rem; }
h1 { font-size: 1.5rem; line-height: 1.25; }
.code { font: 700 clamp(2rem, 11vw, 3.4rem)/1.2 ui-monospace, monospace; letter-spacing: .06em; text-align: center; border: 2px solid; border-radius: .5rem; padding: .6rem .3rem; margin: 1rem 0; }
button, input { font: inherit; padding: .7rem 1.1rem; border-radius: .4rem; border: 2px solid; }
input { width: 12rem; max-width: 100%; box-sizing: border-box; text-transform: uppercase; }
button { cursor: pointer; background: Canvas; color: CanvasText; margin: .3rem .5rem .3rem 0; min-height: 3rem; }
button.yes { background: #0b5d3b; color: #fff; border-color: #0b5d3b; }
button:focus-visible, input:focus-visible { outline: 3px solid #1a73c9; outline-offset: 2px; }
footer { margin-top: 2.5rem; font-size: .9rem; border-top: 1px solid; padding-top: .5rem; }
</style>
</head>
<body>
<header>Fellside practice cloud</header>
<main>
<h1>{{.Title}}</h1>
{{range .Lines}}<p>{{.}}</p>
{{end}}{{if .Ask}}<form method="get" action="/device">
<p><label for="code">The code in your terminal</label></p>
<p><input id="code" name="code" required maxlength="16" autocomplete="off" autocapitalize="characters" autofocus> <button class="yes">Go on</button></p>
</form>
{{end}}{{if .Code}}<p class="code" id="code">{{.Code}}</p>
<p><strong>Compare this code with the one in your terminal.</strong> Confirm only if both are the same, and if you began this sign-in yourself.</p>
<form method="post" action="/device">
<input type="hidden" name="code" value="{{.Code}}"><input type="hidden" name="form" value="{{.Form}}">
<button class="yes" id="confirm" name="answer" value="yes" autofocus>The codes are the same: confirm</button>
<button id="deny" name="answer" value="no">Deny</button>
</form>
{{end}}{{if .Switch}}<form method="post" action="/services">
<input type="hidden" name="form" value="{{.Form}}">
<button class="yes" id="switch" name="answer" value="on" autofocus>Switch {{.Switch}} on</button>
</form>
{{end}}</main>
<footer>This cloud is for practice: it runs inside gharbor, on this machine, and all that it knows is made up.</footer>
</body>
</html>
`

type pageView struct {
	Title, Code, Form, Switch string
	Lines                     []string
	Ask                       bool
}

// page serves the pages for people.
func (c *Cloud) page(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	_ = r.ParseForm()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy",
		"default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'")
	w.Header().Set("Referrer-Policy", "no-referrer")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Header().Set("Cache-Control", "no-store")
	if r.URL.Path == "/services" {
		c.services(w, r)
		return
	}
	code := strings.ToUpper(strings.TrimSpace(r.Form.Get("code")))
	var d *device
	for _, each := range c.devices {
		if each.code == code && each.state == "" && time.Now().Before(each.end) {
			d = each
		}
	}
	switch {
	case code == "":
		view(w, http.StatusOK, pageView{Title: "Sign a program in",
			Lines: []string{"Type the code that the program shows."}, Ask: true})
	case d == nil:
		view(w, http.StatusNotFound, pageView{Title: "No sign-in waits for this code",
			Lines: []string{"It is wrong, was used already, or has ended. Look at the program again, and type its code."},
			Ask:   true})
	case r.Method != http.MethodPost:
		view(w, http.StatusOK, pageView{Title: "gharbor asks to use your databases",
			Lines: []string{"You are " + c.config.Who + "."}, Code: d.code, Form: d.form})
	case subtle.ConstantTimeCompare([]byte(r.PostForm.Get("form")), []byte(d.form)) != 1:
		view(w, http.StatusForbidden,
			pageView{Title: "That did not come from this page",
				Lines: []string{"Open the page anew, and confirm there."}})
	case r.PostForm.Get("answer") == "yes":
		d.state = "confirmed"
		view(w, http.StatusOK, pageView{Title: "Confirmed",
			Lines: []string{"The program goes on by itself. You can close this page."}})
	default:
		d.state = "denied"
		view(w, http.StatusOK, pageView{Title: "Denied", Lines: []string{"The program was told. You can close this page."}})
	}
}

func (c *Cloud) services(w http.ResponseWriter, r *http.Request) {
	switch {
	case c.config.Service == "":
		view(w, http.StatusNotFound, pageView{Title: "There are no services here"})
	case r.Method == http.MethodPost &&
		subtle.ConstantTimeCompare([]byte(r.PostForm.Get("form")), []byte(c.form)) == 1 &&
		r.PostForm.Get("answer") == "on":
		c.serviceOn = true
		view(w, http.StatusOK, pageView{Title: "The service is on",
			Lines: []string{"The service " + c.config.Service + " is on. What waits for it goes on by itself."}})
	case c.serviceOn:
		view(w, http.StatusOK, pageView{Title: "The service is on",
			Lines: []string{"The service " + c.config.Service + " is on already."}})
	default:
		view(w, http.StatusOK, pageView{Title: "The service is off",
			Lines: []string{"Nothing can be asked of your databases before the service " + c.config.Service +
				" is on."}, Switch: c.config.Service, Form: c.form})
	}
}

func view(w http.ResponseWriter, status int, v pageView) {
	w.WriteHeader(status)
	_ = cloudPage().Execute(w, v)
}
