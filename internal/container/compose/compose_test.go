package compose

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"
)

const canary = "canary-5b2f-Secret"

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// folder makes a folder with files; a text "-> X" makes a link to X.
func folder(t testing.TB, files map[string]string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "huts")
	must(t, os.MkdirAll(dir, 0o755))
	for name, text := range files {
		path := filepath.Join(dir, name)
		must(t, os.MkdirAll(filepath.Dir(path), 0o755))
		if to, link := strings.CutPrefix(text, "-> "); link {
			must(t, os.Symlink(to, path))
			continue
		}
		must(t, os.WriteFile(path, []byte(text), 0o644))
	}
	return dir
}

// say writes what was read as a line: project, services with their line, engine, user, database
// and whether a password is known, ports; then the problems, without the folder.
func say(dir string, p *Project, err error) string {
	var parts []string
	if err != nil {
		return "error " + strings.ReplaceAll(err.Error(), dir+"/", "")
	}
	for _, s := range p.Services {
		text := fmt.Sprintf("%s/%s:%d %s", s.Project, s.Name, s.Line, s.Engine.Name)
		if len(s.Accounts) > 0 {
			a := s.Accounts[0]
			text += " " + a.User + "/" + a.Database
			if a.Password.Given() {
				text += " known"
			}
			if a.Why != "" {
				text += " " + a.Why
			}
		}
		for _, port := range s.Ports {
			text += fmt.Sprintf(" %s:%s>%d", port.Address, port.Outside, port.Inside)
		}
		if s.HostNetwork {
			text += " host"
		}
		if len(s.Profiles) > 0 {
			text += " when " + strings.Join(s.Profiles, ",")
		}
		parts = append(parts, text)
	}
	for _, problem := range p.Problems {
		parts = append(parts, "! "+strings.ReplaceAll(problem.Error(), dir+"/", ""))
	}
	return strings.Join(parts, "; ")
}

// TestForms reads each form that the Compose specification has for what is looked at here.
func TestForms(t *testing.T) {
	pg := "services:\n  db:\n    image: postgres:16\n"
	for about, each := range map[string]struct {
		files map[string]string
		env   map[string]string
		want  string
	}{
		"the least": {map[string]string{"compose.yaml": pg}, nil, "huts/db:2 postgres postgres/postgres"},
		"a name of its own": {map[string]string{"compose.yml": "name: Hills_2\n" + pg}, nil,
			"hills_2/db:3 postgres postgres/postgres"},
		"a name from a variable": {map[string]string{"compose.yml": "name: ${N}\n" + pg, ".env": "N=hills"},
			nil, "hills/db:3 postgres postgres/postgres"},
		"COMPOSE_PROJECT_NAME": {map[string]string{"docker-compose.yml": pg},
			map[string]string{"COMPOSE_PROJECT_NAME": "hills"}, "hills/db:2 postgres postgres/postgres"},
		"a map of variables": {map[string]string{"compose.yaml": pg +
			"    environment: {POSTGRES_USER: w, POSTGRES_PASSWORD: x, POSTGRES_DB: 5}\n"}, nil,
			"huts/db:2 postgres w/5 known"},
		"a list of variables": {map[string]string{"compose.yaml": pg +
			"    environment:\n      - POSTGRES_USER=w\n      - POSTGRES_PASSWORD=x=y\n"}, nil,
			"huts/db:2 postgres w/w known"},
		"one without a value": {map[string]string{"compose.yaml": pg +
			"    environment: [POSTGRES_PASSWORD]\n"}, map[string]string{"POSTGRES_PASSWORD": "x"},
			"huts/db:2 postgres postgres/postgres known"},
		"trust": {map[string]string{"compose.yaml": pg +
			"    environment: {POSTGRES_HOST_AUTH_METHOD: trust}\n"}, nil,
			"huts/db:2 postgres postgres/postgres trust"},
		"interpolation": {map[string]string{"compose.yaml": pg +
			"    environment: {POSTGRES_USER: '${U:-w}', POSTGRES_PASSWORD: '${P:?}', POSTGRES_DB: 'a$$b${E+-set}'}\n",
			".env": "P=x\nE="}, nil, "huts/db:2 postgres w/a$b-set known"},
		"the environment first": {map[string]string{"compose.yaml": pg +
			"    environment: {POSTGRES_USER: $U}\n", ".env": "U=file"}, map[string]string{"U": "own"},
			"huts/db:2 postgres own/own"},
		"a required variable": {map[string]string{"compose.yaml": pg +
			"    environment:\n      POSTGRES_USER: w\n      POSTGRES_PASSWORD: ${P:?say it in .env}\n"}, nil,
			"! compose.yaml:6: the variable P is required and not set: say it in .env"},
		"a wrong variable": {map[string]string{"compose.yaml": pg +
			"    environment:\n      POSTGRES_PASSWORD: ${P\n"}, nil,
			"! compose.yaml:5: a $ begins something that is no variable; write $$ for a plain $"},
		"one service is wrong": {map[string]string{"compose.yaml": pg + "  other: {image: 'mysql:${V?}'}\n"},
			nil, "huts/db:2 postgres postgres/postgres; ! compose.yaml:4: the variable V is required and not set"},
		"env_file": {map[string]string{"compose.yaml": pg + "    env_file: db.env\n",
			"db.env": "POSTGRES_USER=w\nPOSTGRES_PASSWORD='x y'\n"}, nil, "huts/db:2 postgres w/w known"},
		"several env_files": {map[string]string{"compose.yaml": pg +
			"    env_file:\n      - a.env\n      - {path: b.env, required: false}\n      - {path: gone.env, " +
			"required: false}\n    environment: {POSTGRES_DB: c}\n",
			"a.env": "POSTGRES_USER=a\nPOSTGRES_DB=a", "b.env": "POSTGRES_USER=b"}, nil, "huts/db:2 postgres b/c"},
		"an env_file is gone": {map[string]string{"compose.yaml": pg + "    env_file: gone.env\n"}, nil,
			"! compose.yaml:2: its env_file gone.env: there is no such file"},
		"ports": {map[string]string{"compose.yaml": pg +
			"    ports: ['5432', '5433:5432', '127.0.0.1:5434:5432', '127.0.0.1::5432', 5435, " +
			"'5440-5441:5432-5433', '9:9/udp']\n"},
			nil, "huts/db:2 postgres postgres/postgres :>5432 :5433>5432 127.0.0.1:5434>5432 127.0.0.1:>5432 " +
				":>5435 :5440>5432 :5441>5433"},
		"long ports": {map[string]string{"compose.yaml": pg +
			"    ports:\n      - {target: 5432, published: '5450-5460', host_ip: 127.0.0.1, protocol: tcp}\n    " +
			"  - target: 5432\n"},
			nil, "huts/db:2 postgres postgres/postgres 127.0.0.1:5450-5460>5432 :>5432"},
		"the host's network": {map[string]string{"compose.yaml": pg + "    network_mode: host\n"}, nil,
			"huts/db:2 postgres postgres/postgres host"},
		"profiles": {map[string]string{"compose.yaml": pg + "    profiles: [dev, ci]\n"}, nil,
			"huts/db:2 postgres postgres/postgres when dev,ci"},
		"a secret in a file": {map[string]string{"compose.yaml": pg +
			"    environment: {POSTGRES_PASSWORD_FILE: /run/secrets/pw}\n    secrets: [pw]\nsecrets:\n  pw: {file: pw.txt}\n",
			"pw.txt": "x\n"}, nil, "huts/db:2 postgres postgres/postgres known"},
		"a secret in a variable": {map[string]string{"compose.yaml": pg +
			"    environment: {POSTGRES_PASSWORD_FILE: /run/secrets/pw}\nsecrets:\n  pw: {environment: PW}\n"},
			map[string]string{"PW": "x"}, "huts/db:2 postgres postgres/postgres known"},
		"an external secret": {map[string]string{"compose.yaml": pg +
			"    environment: {POSTGRES_PASSWORD_FILE: /run/secrets/pw}\nsecrets:\n  pw: {external: true}\n"},
			nil, "huts/db:2 postgres postgres/postgres"},
		"an override file": {map[string]string{"compose.yaml": pg +
			"    environment: {POSTGRES_USER: w, POSTGRES_DB: a}\n    ports: ['5433:5432']\n",
			"compose.override.yaml": "services:\n  db:\n    environment: [POSTGRES_DB=b]\n    ports: " +
				"['5434:5432']\n  more: {image: mariadb}\n"},
			nil, "huts/db:2 postgres w/b :5433>5432 :5434>5432; huts/more:5 mariadb root/"},
		"COMPOSE_FILE": {map[string]string{"a.yml": pg, "b.yml": "services: {db: {image: mysql}}\n"},
			map[string]string{"COMPOSE_FILE": "a.yml:b.yml"}, "huts/db:2 mysql root/"},
		"extends": {map[string]string{"compose.yaml": "services:\n  base: {image: 'postgres:16', environment: " +
			"{POSTGRES_USER: w}}\n  db: {extends: base, environment: {POSTGRES_DB: b}}\n"},
			nil, "huts/base:2 postgres w/w; huts/db:3 postgres w/b"},
		"extends of a file": {map[string]string{"compose.yaml": "services:\n  db: {extends: {file: " +
			"sub/base.yaml, service: base}}\n",
			"sub/base.yaml": "services:\n  base: {image: mysql, env_file: e.env}\n",
			"sub/e.env":     "MYSQL_USER=w\nMYSQL_PASSWORD=x"}, nil, "huts/db:2 mysql w/ known"},
		"extends itself": {map[string]string{"compose.yaml": "services:\n  a: {extends: b}\n  b: {extends: a}\n"},
			nil, "! compose.yaml:2: the service a extends itself; ! compose.yaml:3: the service b extends itself"},
		"extends nothing": {map[string]string{"compose.yaml": "services:\n  a: {extends: nobody}\n"},
			nil, "! compose.yaml:2: there is no service nobody to extend"},
		"include": {map[string]string{"compose.yaml": "include: [sub/compose.yaml]\n" + pg,
			"sub/compose.yaml": "services: {more: {image: mariadb, environment: {MARIADB_USER: $U, MARIADB_PASSWORD: x}}}\n",
			"sub/.env":         "U=sub"}, nil, "huts/db:3 postgres postgres/postgres; huts/more:1 mariadb sub/ known"},
		"a long include": {map[string]string{"compose.yaml": "include:\n  - path: [sub/a.yaml, sub/b.yaml]\n    " +
			"env_file: own.env\n",
			"own.env": "U=own", "sub/a.yaml": "services: {more: {image: mariadb}}",
			"sub/b.yaml": "services: {more: {environment: {MARIADB_USER: $U}}}"}, nil, "huts/more:1 mariadb own/"},
		"include leads back": {map[string]string{"compose.yaml": "include: [b.yaml]\n",
			"b.yaml": "include: [compose.yaml]\n"}, nil, "error b.yaml:1: compose.yaml leads back to itself"},
		"anchors and merges": {map[string]string{"compose.yaml": "x-e: &e {POSTGRES_USER: w}\nservices:\n  " +
			"db:\n    image: postgres\n    environment:\n      <<: *e\n      POSTGRES_DB: b\n"},
			nil, "huts/db:3 postgres w/b"},
		"an image of their own": {map[string]string{"compose.yaml": "services:\n  db: {image: " +
			"\"registry.fellside.example/huts-db\", environment: {POSTGRES_PASSWORD: x}}\n  web: {image: web, " +
			"environment: {POSTGRES_PASSWORD: x, POSTGRES_HOST: db}, env_file: none.env}\n"},
			nil, "huts/db:2 postgres postgres/postgres known"},
		"an image that is built": {map[string]string{"compose.yaml": "services:\n  db: {build: ., environment: " +
			"{MARIADB_ROOT_PASSWORD: x}}\n  web: {build: .}\n"},
			nil, "huts/db:2 mariadb root/ known"},
		"nothing of a database": {map[string]string{"compose.yaml": "services: {web: {image: nginx}}\n"}, nil, ""},
		"no map": {map[string]string{"compose.yaml": "- x\n"}, nil,
			"error compose.yaml:1: it is no Compose file: it begins with a map of services"},
		"no YAML": {map[string]string{"compose.yaml": "services:\n  db: {image: [\n"}, nil,
			"error compose.yaml:2: it is not YAML that can be read"},
		"services is a list": {map[string]string{"compose.yaml": "services: [db]\n"}, nil,
			"error compose.yaml:1: services is a map: a service's name, and below it what it is"},
		"a wrong port": {map[string]string{"compose.yaml": pg + "    ports: [x]\n"}, nil,
			"! compose.yaml:2: the service db: a port cannot be read"},
		"a wrong .env": {map[string]string{"compose.yaml": pg, ".env": "A=1\n'" + canary}, nil,
			"error .env:2: it is not a list of NAME=VALUE lines that can be read"},
	} {
		t.Run(about, func(t *testing.T) {
			dir := folder(t, each.files)
			r := Reader{Env: func(name string) (string, bool) { text, ok := each.env[name]; return text, ok }}
			p, err := r.Read(r.At(dir, filepath.Dir(dir)))
			if got := say(dir, p, err); got != each.want {
				t.Errorf("%s\nand what was expected is\n%s", got, each.want)
			}
		})
	}
}

// TestOutside names files outside of the folder in every way: none is read unless that is
// allowed, and each is named with file and line.
func TestOutside(t *testing.T) {
	pg := "services:\n  db:\n    image: postgres\n"
	for about, files := range map[string]map[string]string{
		"extends":          {"compose.yaml": "services:\n  db: {extends: {file: ../out.yaml, service: db}}\n"},
		"include":          {"compose.yaml": "include: [../out.yaml]\n"},
		"env_file":         {"compose.yaml": pg + "    env_file: ../out.env\n"},
		"an absolute path": {"compose.yaml": pg + "    env_file: /etc/hostname\n"},
		"a linked .env":    {"compose.yaml": pg, ".env": "-> ../out.env"},
		"a linked file":    {"compose.yaml": pg + "    env_file: e.env\n", "e.env": "-> ../out.env"},
		"a secret": {"compose.yaml": pg +
			"    environment: {POSTGRES_PASSWORD_FILE: /run/secrets/pw}\nsecrets: {pw: {file: ../out.env}}\n"},
		"a variable":   {"compose.yaml": pg + "    env_file: ${E}\n", ".env": "E=../out.env"},
		"an include's": {"compose.yaml": "include:\n  - {path: in.yaml, env_file: ../out.env}\n", "in.yaml": pg},
	} {
		t.Run(about, func(t *testing.T) {
			dir := folder(t, files)
			must(t, os.WriteFile(filepath.Join(dir, "../out.env"),
				[]byte("POSTGRES_USER=outsider\nPOSTGRES_PASSWORD="+canary), 0o644))
			must(t, os.WriteFile(filepath.Join(dir, "../out.yaml"),
				[]byte("services: {db: {image: postgres, environment: {POSTGRES_USER: outsider}}}"), 0o644))
			p, err := Reader{}.Read(Reader{}.At(dir, dir))
			got := say(dir, p, err)
			if strings.Contains(got, "outsider") || !strings.Contains(got, "is outside of the folder") ||
				!strings.Contains(got, "--outside") {
				t.Errorf("%s", got)
			}
			p, err = Reader{Outside: true}.Read(Reader{}.At(dir, dir))
			if got := say(dir, p, err); strings.Contains(got, "outside of the folder") {
				t.Errorf("allowed, and yet: %s", got)
			}
		})
	}
}

// TestWhatTheEnvironmentHolds puts a variable of the environment into each part of a Compose
// file: what is made of the project holds it, and no error and no text for people shows it.
func TestWhatTheEnvironmentHolds(t *testing.T) {
	const value = "Plain-Word-of-mine"
	env := func(name string) (string, bool) { return value, name == "MINE" }
	pg := "services:\n  db:\n    image: postgres:16\n"
	for about, each := range map[string]struct{ yaml, dot string }{
		"a user":           {pg + "    environment: {POSTGRES_USER: 'x-${MINE}'}\n", ""},
		"by the .env file": {pg + "    environment: {POSTGRES_USER: '$DOT'}\n", "DOT=x${MINE}y"},
		"a project's name": {"name: $MINE\n" + pg, ""},
		"an inherited one": {pg + "    environment: [POSTGRES_USER=$MINE]\n", ""},
		"a profile":        {pg + "    profiles: ['$MINE']\n", ""},
		"a reason":         {pg + "    environment: {A: '${NONE:?is ${MINE}}'}\n", ""},
		"a file's name":    {pg + "    env_file: '/x/$MINE'\n", ""},
		"an include":       {"include: ['$MINE']\n" + pg, ""},
		"a secret's file": {pg + "    environment: {POSTGRES_PASSWORD_FILE: /run/secrets/pw}\nsecrets: {pw: " +
			"{file: '$MINE'}}\n",
			""},
		"an unknown service": {"services:\n  db: {image: postgres, extends: '$MINE'}\n", ""},
	} {
		dir := folder(t, map[string]string{"compose.yaml": each.yaml, ".env": each.dot})
		p, err := Reader{Env: env}.Read([]string{filepath.Join(dir, "compose.yaml")})
		shown := fmt.Sprint(err)
		if p != nil {
			for _, problem := range p.Problems {
				shown += problem.Error()
			}
			veil := p.Veil()
			for _, s := range p.Services {
				for _, text := range []string{s.Project, s.Image, s.Accounts[0].User, strings.Join(s.Profiles, " ")} {
					shown += " " + veil.Text(text)
				}
			}
		}
		if strings.Contains(strings.ToLower(shown), strings.ToLower(value)) {
			t.Errorf("%s: %s", about, shown)
		}
		if !strings.Contains(shown, "[secret]") {
			t.Errorf("%s: the value is not there at all: %s", about, shown)
		}
	}
}

// TestGrowth has files grow by variables, aliases, chains and ranges: each is refused
// immediately, and what people write is not.
func TestGrowth(t *testing.T) {
	pg := "services:\n  db:\n    image: postgres\n"
	dot := "V0=" + strings.Repeat("x", 100) + "\n"
	for i := 1; i < 12; i++ {
		dot += fmt.Sprintf("V%d=%s\n", i, strings.Repeat(fmt.Sprintf("$V%d", i-1), 9))
	}
	chain, fan := "services:\n", "services:\n  s0: {image: postgres, environment: {A: '$L'}}\n"
	for i := range 40 {
		chain += fmt.Sprintf("  s%d: {image: postgres, extends: s%d}\n", i, i+1)
	}
	chain += "  s40: {image: postgres}\n"
	for i := 1; i < 400; i++ {
		fan += fmt.Sprintf("  s%d: {extends: s%d, environment: {A%d: '$L$L'}}\n", i, i%9, i)
	}
	long := "L=" + strings.Repeat("y", 60<<10) + "\n"
	alias := "x-a: &a {image: postgres, environment: [" + strings.Repeat("A=b, ", 400) + "A=b]}\nservices:\n"
	for i := range 490 {
		alias += fmt.Sprintf("  s%d: *a\n", i)
	}
	for about, files := range map[string]map[string]string{
		"480 bytes of .env": {"compose.yaml": pg, ".env": dot},
		"nested defaults": {"compose.yaml": pg + "    environment: {A: '" + strings.Repeat("${A:-",
			40) + strings.Repeat("}", 40) + "'}\n"},
		"nested without an end":  {"compose.yaml": pg + "    environment: {A: '" + strings.Repeat("${A:-{", 300) + "'}\n"},
		"a name of nested ones":  {"compose.yaml": "name: '" + strings.Repeat("${A:-", 40) + "'\n" + pg},
		"many in one text":       {"compose.yaml": pg + "    environment: {A: '" + strings.Repeat("$A", 4000) + "'}\n"},
		"a long text with one":   {"compose.yaml": pg + "    environment: {A: '$A" + strings.Repeat("y", 70<<10) + "'}\n"},
		"long values many times": {"compose.yaml": fan, ".env": long},
		"a chain of extends":     {"compose.yaml": chain},
		"aliases of one service": {"compose.yaml": alias},
		"ranges of ports": {"compose.yaml": pg + "    ports: [" + strings.Repeat("'1-65535:1-65535', ",
			200) + "'5432']\n"},
		"a range of published":   {"compose.yaml": pg + "    ports: ['1-65535:5432']\n"},
		"an env_file that grows": {"compose.yaml": pg + "    env_file: e.env\n", "e.env": dot},
		"includes with long files": {"compose.yaml": "include: [a.yaml, b.yaml, c.yaml, d.yaml, e.yaml]\n" + pg,
			"a.yaml": "# " + strings.Repeat("x", 1000_000) + "\n" + pg,
			"b.yaml": "# " + strings.Repeat("x", 1000_000) + "\n" + pg,
			"c.yaml": "# " + strings.Repeat("x", 1000_000) + "\n" + pg,
			"d.yaml": "# " + strings.Repeat("x", 1000_000) + "\n" + pg,
			"e.yaml": "# " + strings.Repeat("x", 1000_000) + "\n" + pg},
	} {
		dir := folder(t, files)
		began := time.Now()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		p, err := Reader{}.Read([]string{filepath.Join(dir, "compose.yaml")})
		runtime.ReadMemStats(&after)
		got := say(dir, p, err)
		if !strings.Contains(got, "error") && !strings.Contains(got, "!") {
			t.Errorf("%s: %.300s", about, got)
		}
		if strings.Contains(got, "interpolat") || strings.Contains(got, "! :") {
			t.Errorf("%s: %.300s", about, got)
		}
		if took := time.Since(began); took > 15*time.Second { // on a busy machine
			t.Errorf("%s took %s", about, took)
		}
		if made := (after.TotalAlloc - before.TotalAlloc) >> 20; made > 600 {
			t.Errorf("%s made %d MB", about, made)
		}
	}
	// A hundred services as people write them.
	well := "name: ${PROJECT:-huts}\nx-common: &common\n  restart: unless-stopped\n  logging: {driver: " +
		"json-file, options: {max-size: 10m}}\nservices:\n"
	for i := range 100 {
		well += fmt.Sprintf("  db%d:\n    <<: *common\n    image: postgres:${PG:-16}\n    env_file: .env\n    "+
			"ports: ['${HOST:-127.0.0.1}:%d:5432', '9000-9010:9000-9010']\n    environment:\n      "+
			"POSTGRES_USER: ${DB_USER:-warden_app}\n      POSTGRES_PASSWORD: ${DB_PASSWORD:?set it}\n      POSTGRES_DB: hut%d\n",
			i, 6000+i, i)
	}
	dir := folder(t, map[string]string{"compose.yaml": well,
		".env": "BASE=/srv\nDATA=${BASE}/data\nDB_PASSWORD=" + canary + "\n"})
	if p, err := (Reader{}).Read([]string{filepath.Join(dir, "compose.yaml")}); err != nil ||
		len(p.Services) != 100 || len(p.Problems) > 0 {
		t.Errorf("%d services, %v, %v", len(p.Services), p.Problems, err)
	}
}

// TestEveryLevel reads the project of a folder, and those of the folders above it.
func TestEveryLevel(t *testing.T) {
	dir := folder(t, map[string]string{"compose.yaml": "services: {db: {image: postgres}}",
		"api/compose.yaml": "services: {db: {image: mysql}}", "api/src/x": "x"})
	all := Reader{}.All(filepath.Join(dir, "api/src"), dir)
	if len(all) != 2 || all[0][0] != filepath.Join(dir, "api/compose.yaml") ||
		all[1][0] != filepath.Join(dir, "compose.yaml") {
		t.Errorf("%v", all)
	}
	if all := (Reader{}).All(filepath.Join(dir, "api/src"), filepath.Join(dir, "api")); len(all) != 1 {
		t.Errorf("%v", all)
	}
	named := Reader{Env: func(name string) (string, bool) { return "a.yml", name == "COMPOSE_FILE" }}
	if all := named.All(dir, dir); len(all) != 1 || len(all[0]) != 1 {
		t.Errorf("%v", all)
	}
}

// TestBounds refuses what is too large, too deep and too many, in its time.
func TestBounds(t *testing.T) {
	var bomb, many strings.Builder
	bomb.WriteString("a0: &a0 [x, x, x, x, x, x, x, x, x]\n")
	for i := 1; i < 12; i++ {
		fmt.Fprintf(&bomb, "a%d: &a%d [*a%d, *a%d, *a%d, *a%d, *a%d, *a%d, *a%d, *a%d, *a%d]\n", i, i, i-1, i-1,
			i-1, i-1, i-1, i-1, i-1, i-1, i-1)
	}
	bomb.WriteString("services: {db: {image: postgres, environment: *a11}}\n")
	many.WriteString("services:\n")
	for i := range maxServices + 1 {
		fmt.Fprintf(&many, "  s%d: {image: postgres}\n", i)
	}
	deep := map[string]string{"compose.yaml": "include: [f0.yaml]\n"}
	for i := range 30 {
		deep[fmt.Sprintf("f%d.yaml", i)] = fmt.Sprintf("include: [f%d.yaml]\n", i+1)
	}
	for about, files := range map[string]map[string]string{
		"aliases of aliases": {"compose.yaml": bomb.String()},
		"many services":      {"compose.yaml": many.String()},
		"a large file":       {"compose.yaml": "# " + strings.Repeat("x", maxFile) + "\n"},
		"a large .env":       {"compose.yaml": "services: {}\n", ".env": "A=" + strings.Repeat("x", maxFile)},
		"deep includes":      deep,
		"deep YAML":          {"compose.yaml": "services: {db: " + strings.Repeat("[", 20000) + "}\n"},
	} {
		t.Run(about, func(t *testing.T) {
			dir := folder(t, files)
			began := time.Now()
			p, err := Reader{}.Read(Reader{}.At(dir, dir))
			if got := say(dir, p, err); !strings.Contains(got, "error") && !strings.Contains(got, "!") {
				t.Errorf("%.200s", got)
			}
			if took := time.Since(began); took > 15*time.Second {
				t.Errorf("it took %s", took)
			}
		})
	}
}

// FuzzRead reads any text as a Compose file, with variables: it ends, and errors show no value of
// a variable.
func FuzzRead(f *testing.F) {
	for _, seed := range []string{
		"services:\n  db:\n    image: postgres:${V:-16}\n    environment: {POSTGRES_PASSWORD: '${P:?}'}\n    " +
			"ports: ['5432', '1-2:3-4']\n",
		"include: [{path: a, env_file: b}]\nsecrets: {a: {file: b}}\nservices: {a: {extends: {service: b, file: c}}}",
		"x: &a [*a]\n", "services: {db: }", "name: $",
		"services: {db: {image: postgres, env_file: [{path: x, required: false}], profiles: a, ports: [{target: x}]}}",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		dir := folder(t, map[string]string{"compose.yaml": text, ".env": "P=" + canary + "\nV=" + canary})
		p, err := Reader{}.Read([]string{filepath.Join(dir, "compose.yaml")})
		var known *FileError
		if err != nil && !errors.As(err, &known) {
			t.Errorf("an error without a file: %v", err)
		}
		if got := say(dir, p, err); strings.Contains(strings.SplitN(got, "!",
			2)[len(strings.SplitN(got, "!", 2))-1], canary) && strings.Contains(got, "!") &&
			!strings.Contains(text, canary) {
			t.Errorf("a value is shown: %s", got)
		}
	})
}
