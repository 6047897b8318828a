package compose

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/compose-spec/compose-go/v2/cli"
	"github.com/compose-spec/compose-go/v2/loader"
	"github.com/compose-spec/compose-go/v2/types"
)

// machine are the variables of the machine in these tests.
var machine = map[string]string{"U": "warden", "P": "knot", "EMPTY": "", "PORT": "5433"}

// describe writes down what both readers say of the services.
func describe(p *project) string {
	var b strings.Builder
	fmt.Fprintf(&b, "project %s\n", p.Name)
	for _, name := range p.serviceNames() {
		s := p.Services[name]
		fmt.Fprintf(&b, "%s image=%s profiles=%v expose=%v\n", name, s.Image, s.Profiles, slices.Sorted(slices.Values(s.Expose)))
		for _, key := range slices.Sorted(maps.Keys(s.Environment)) {
			if value := s.Environment[key]; value == nil {
				fmt.Fprintf(&b, "  %s\n", key)
			} else {
				fmt.Fprintf(&b, "  %s=%q\n", key, *value)
			}
		}
		for _, port := range s.Ports {
			fmt.Fprintf(&b, "  port %d published %q %s\n", port.Target, port.Published, port.Protocol)
		}
		for _, use := range s.Secrets {
			fmt.Fprintf(&b, "  secret %s %s\n", use.Source, filepath.Base(cmp.Or(use.Target, use.Source)))
		}
		fmt.Fprintf(&b, "  depends %v\n", slices.Sorted(maps.Keys(s.DependsOn)))
	}
	fmt.Fprintf(&b, "disabled %v\n", p.disabledNames())
	for _, name := range slices.Sorted(maps.Keys(p.Secrets)) {
		fmt.Fprintf(&b, "secret %s %+v\n", name, p.Secrets[name])
	}
	return b.String()
}

// judged is the project as the specification's own library reads it.
func judged(files []string) (*project, error) {
	folder := filepath.Dir(files[0])
	env := types.Mapping(maps.Clone(machine))
	options, err := cli.NewProjectOptions(files, cli.WithWorkingDirectory(folder), cli.WithEnvFiles(), cli.WithDotEnv)
	if err != nil {
		return nil, err
	}
	for name, value := range options.Environment {
		if _, has := env[name]; !has {
			env[name] = value
		}
	}
	details := types.ConfigDetails{WorkingDir: folder, Environment: env}
	for _, path := range files {
		details.ConfigFiles = append(details.ConfigFiles, types.ConfigFile{Filename: path})
	}
	lib, err := loader.LoadWithContext(context.Background(), details, func(o *loader.Options) {
		o.SetProjectName(loader.NormalizeProjectName(filepath.Base(folder)), false)
	})
	if err != nil {
		return nil, err
	}
	p := &project{Name: lib.Name, Services: make(map[string]*service), Disabled: make(map[string]*service), Secrets: make(map[string]declaredSecret)}
	for name, one := range lib.Services {
		s := &service{Image: one.Image, Environment: one.Environment, Expose: one.Expose, Profiles: one.Profiles, DependsOn: make(map[string]bool)}
		for _, port := range one.Ports {
			s.Ports = append(s.Ports, serverPort{Target: int(port.Target), Published: port.Published, Protocol: port.Protocol})
		}
		for _, use := range one.Secrets {
			s.Secrets = append(s.Secrets, secretUse{use.Source, use.Target})
		}
		for other := range one.DependsOn {
			s.DependsOn[other] = true
		}
		p.Services[name] = s
	}
	for name := range lib.DisabledServices {
		p.Disabled[name] = &service{}
	}
	for name, one := range lib.Secrets {
		p.Secrets[name] = declaredSecret{File: one.File, Environment: one.Environment}
	}
	return p, nil
}

// compare reads files with both readers. A text of several files has "--- NAME" before each; those named
// "N.yaml" by a digit are the compose files, in order.
func compare(t *testing.T, text string) (agreed bool) {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "Field.station")
	var files []string
	for part := range strings.SplitSeq(strings.TrimPrefix(text, "--- "), "\n--- ") {
		name, body, _ := strings.Cut(part, "\n")
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(body+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		if name[0] >= '0' && name[0] <= '9' {
			files = append(files, path)
		}
	}
	quiet()
	want, wantErr := judged(files)
	have, _, err := load(context.Background(), Request{Schema: keys, Files: files, Machine: machine})
	switch {
	case wantErr != nil && strings.Contains(wantErr.Error(), "neither an image nor a build"): // as a server it needs neither
	case wantErr != nil && err == nil && len(have.Disabled) > 0 && strings.Contains(wantErr.Error(), "depends on undefined"): // it is only inactive
	case (err == nil) != (wantErr == nil):
		t.Errorf("ours says %v, the library %v, of\n%s", err, wantErr, text)
	case err == nil:
		if ours, library := describe(have), describe(want); ours != library {
			t.Errorf("of\n%s\nours\n%s\nthe library\n%s", text, ours, library)
		} else {
			return true
		}
	}
	return false
}

// TestAsTheLibrary reads files as the specification's own library does.
func TestAsTheLibrary(t *testing.T) {
	for _, text := range []string{
		"--- 1.yaml\nservices: {a: {image: x, environment: {A: 0123, B: 1.10, C: yes, D: true, E: null, F: 1e3, G: \"07\", U: }}}",
		"--- 1.yaml\nservices: {a: {image: x, environment: [A=1, B, U, C=, D==, P=mine]}}",
		"--- 1.yaml\nservices: {a: {image: \"x:${V:-16}\", environment: {A: $U, B: \"${U}s\", C: $$U, D: \"${NONE-d}\", E: \"${EMPTY:-e}\", F: \"${EMPTY-f}\", G: \"${U:+g}\", H: \"${NONE:-${P}}\"}}}",
		"--- 1.yaml\nservices: {a: {image: x, environment: {A: \"${NONE:?say it}\"}}}",
		"--- 1.yaml\nservices: {a: {image: x, environment: {A: \"${\"}}}",
		"--- 1.yaml\nservices: {a: {image: x, ports: [5432, \"5433:5432\", \"127.0.0.1:5434:5432/tcp\", \"5440-5441:40-41\", \"53:53/udp\", {target: 80, published: 8080}, {target: 81}, \"[::1]:99:98\"]}}",
		"--- 1.yaml\nservices: {a: {image: x, ports: [\"${PORT}:5432\", \"${PORT}\"]}}",
		"--- 1.yaml\nservices: {a: {image: x, ports: [\"70000:1\"]}}",
		"--- 1.yaml\nservices: {a: {image: x, ports: [words]}}",
		"--- 1.yaml\nservices: {a: {image: x, ports: [\"1-3:5-6\"]}}",
		"--- 1.yaml\nname: Sta.tion\nservices: {a: {image: x, expose: [1, \"2\"]}, b: {build: ., profiles: [p]}, c: {image: y, depends_on: [a]}}",
		"--- 1.yaml\nname: \"${U}-x\"\nservices: {a: {image: \"${COMPOSE_PROJECT_NAME}\"}}\n--- 2.yaml\nname: other",
		"--- 1.yaml\nservices: {a: {image: x, depends_on: {b: {condition: service_healthy}}}, b: {image: y}}\n--- 2.yaml\nservices: {a: {depends_on: [c]}, c: {image: z}}",
		"--- 1.yaml\nservices: {a: {image: x, environment: {A: 1, B: 2}, ports: [\"1:1\"], expose: [3], secrets: [s]}}\nsecrets: {s: {file: s.txt}, r: {environment: U}}\n--- 2.yaml\nservices: {a: {image: y, environment: [A=3, C], ports: [\"1:1\", \"2:2\"], expose: [3, 4], secrets: [{source: r, target: s}]}}",
		"--- 1.yaml\nservices: {a: {image: x, environment: {A: 1, B: 2}, ports: [\"1:1\"]}}\n--- 2.yaml\nservices: {a: {environment: {A: !reset null}, ports: !override [\"3:3\"]}}",
		"--- 1.yaml\nservices: {a: {image: x, ports: [\"1:1\"]}, b: !reset {image: y}}\n--- 2.yaml\nservices: {a: !override {image: z}}",
		"--- 1.yaml\nservices: {a: {image: x}}\n---\nservices: {a: {image: y}, b: {image: z}}",
		"--- 1.yaml\nx-env: &env {A: 1, B: 2}\nservices: {a: {image: x, environment: {<<: *env, B: 3}}, b: {image: y, environment: *env}, c: {image: z, environment: {<<: [*env, {C: 4, A: 5}]}}}",
		"--- 1.yaml\nservices:\n  a: &a {image: x, environment: {A: 1}}\n  b:\n    <<: *a\n    image: y",
		"--- 1.yaml\nservices: {a: {image: x, env_file: e.env, environment: {A: own}}}\n--- e.env\nA=file\nB=\"b $U\"\nexport C='$U'\nD=${B}x\n# no\nE",
		"--- 1.yaml\nservices: {a: {image: x, env_file: [{path: gone.env, required: false}, e.env, f.env]}}\n--- e.env\nA=1\nB=1\n--- f.env\nA=2",
		"--- 1.yaml\nservices: {a: {image: x, env_file: gone.env}}",
		"--- 1.yaml\nservices: {a: {image: \"$V\", environment: [V, W]}}\n--- .env\nV=of-the-file\nU=not-me\nW=\"${V}s\"",
		"--- 1.yaml\nservices: {a: {extends: b, ports: [\"2:2\"], environment: {B: 2}}, b: {image: x, ports: [\"1:1\"], environment: {A: 1, B: 1}, profiles: [p]}}",
		"--- 1.yaml\nservices: {a: {extends: {service: b, file: sub/base.yaml}}}\n--- sub/base.yaml\nservices: {b: {extends: c, env_file: e.env}, c: {image: x, environment: {A: \"$U\"}}}\n--- sub/e.env\nE=1",
		"--- 1.yaml\nservices: {a: {extends: a}}",
		"--- 1.yaml\nservices: {a: {extends: b}, b: {extends: a}}",
		"--- 1.yaml\nservices: {a: {extends: none}}",
		"--- 1.yaml\nservices: {a: {extends: {service: b, file: gone.yaml}}}",
		"--- 1.yaml\nservices: {a: {extends: b, environment: {A: !reset null}}, b: {image: x, environment: {A: 1, B: 2}}}",
		"--- 1.yaml\nservices: {a: {extends: b}}\n--- 2.yaml\nservices: {b: {image: x}}",
		"--- 1.yaml\ninclude: [sub/c.yaml]\nservices: {a: {image: x, depends_on: [b]}}\n--- sub/c.yaml\nservices: {b: {image: \"y:$V\", environment: [V, U], env_file: e.env}}\nsecrets: {s: {file: s.txt}}\n--- sub/.env\nV=inner\nU=inner\n--- sub/e.env\nE=1",
		"--- 1.yaml\ninclude: [{path: [sub/c.yaml, sub/d.yaml], project_directory: other, env_file: sub/v.env}]\nservices: {}\n--- sub/c.yaml\nservices: {b: {image: \"y:$V\", env_file: e.env}}\n--- sub/d.yaml\nservices: {b: {environment: {D: 1}}}\n--- sub/v.env\nV=named\n--- other/e.env\nO=1",
		"--- 1.yaml\ninclude: [c.yaml]\nservices: {b: {environment: {B: local}, ports: [\"1:1\"]}}\n--- c.yaml\nservices: {b: {image: y, environment: {B: 1, C: 2}, ports: [\"1:1\"]}}",
		"--- 1.yaml\ninclude: [c.yaml]\nservices: {a: {extends: b}}\n--- c.yaml\nservices: {b: {image: y}}",
		"--- 1.yaml\ninclude: [c.yaml]\n--- c.yaml\ninclude: [1.yaml]\nservices: {b: {image: y}}",
		"--- 1.yaml\ninclude: [gone.yaml]\nservices: {}",
		"--- 1.yaml\ninclude: [a.yaml, b.yaml]\n--- a.yaml\ninclude: [c.yaml]\nservices: {a: {image: x}}\n--- b.yaml\ninclude: [c.yaml]\nservices: {b: {image: x}}\n--- c.yaml\nservices: {c: {image: x, ports: [\"1:1\"]}}",
		"--- 1.yaml\nservices: {a: {image: x, enviroment: {}}}",
		"--- 1.yaml\nservices: {a: {image: x, ports: 5}}",
		"--- 1.yaml\nservices: {a: {image: [x]}}",
		"--- 1.yaml\nservices: [a]",
		"--- 1.yaml\nservices: {a: {image: x, image: y}}",
		"--- 1.yaml\nservices: {a: {image: x, environment: {A: {B: 1}}}}",
		"--- 1.yaml\nservices: {a: {image: x, depends_on: [none]}}",
		"--- 1.yaml\nservices: {a: {image: x, secrets: [s]}}\nsecrets: {s: {file: ~/s.txt}}",
		"--- 1.yaml\n[a",
		"--- 1.yaml\n",
	} {
		compare(t, text)
	}
}

// TestGeneratedAsTheLibrary compares files that are put together by chance, of pieces that are merged,
// extended and reset in many ways.
func TestGeneratedAsTheLibrary(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	pick := func(all ...string) string { return all[r.IntN(len(all))] }
	agreed := 0
	for range 400 {
		var b strings.Builder
		for file := range 1 + r.IntN(3) {
			fmt.Fprintf(&b, "--- %d.yaml\nservices:\n", file+1)
			for _, name := range []string{"a", "b", "c"} {
				fmt.Fprintf(&b, "  %s:\n    image: %s\n", name, pick("x", "y:${U}", "\"z:${NONE:-1}\"", "postgres"))
				for range r.IntN(4) {
					piece := pick("environment: {A: 1, B: \"$P\"}", "environment: [A=2, C]", "ports: [\"1:1\"]", "ports: [{target: 1, published: \"1\"}, 7]",
						"expose: [5, \"6\"]", "profiles: [p]", "secrets: [s]", "depends_on: [c]", "env_file: e.env", "environment: !reset null", "expose: !override [8]",
						"ports: !override [\"9:9\"]", "extends: c", "profiles: !reset []")
					key, _, _ := strings.Cut(piece, ":")
					if own := b.String()[strings.LastIndex(b.String(), "  "+name+":\n"):]; !strings.Contains(own, key) && (name != "c" || key != "extends" && key != "depends_on") {
						fmt.Fprintf(&b, "    %s\n", piece)
					}
				}
			}
			b.WriteString("secrets: {s: {file: s.txt}}\n")
		}
		b.WriteString("--- e.env\nA=9\nE=\"$U\"")
		if compare(t, b.String()) {
			agreed++
		}
		if t.Failed() {
			return
		}
	}
	if agreed < 200 {
		t.Errorf("only %d of 400 were files that both take", agreed)
	}
}

// TestKeys: the keys are those of the specification's library.
func TestKeys(t *testing.T) {
	var tags func(kind reflect.Type) []string
	tags = func(kind reflect.Type) (all []string) {
		for i := range kind.NumField() {
			name, options, _ := strings.Cut(kind.Field(i).Tag.Get("yaml"), ",")
			switch {
			case strings.Contains(options, "inline") && kind.Field(i).Type.Kind() == reflect.Struct:
				all = append(all, tags(kind.Field(i).Type)...)
			case name != "" && name != "-" && name != "name" && name[0] != '#':
				all = append(all, name)
			}
		}
		return all
	}
	// Keys that its types have beside the specification: old ones that its schema refuses.
	old := []string{"net", "log_driver", "log_opt", "mem_swappiness", "volume_driver", "dockerfile"}
	for _, name := range tags(reflect.TypeFor[types.ServiceConfig]()) {
		if !slices.Contains(serviceKeys, name) && !slices.Contains(old, name) {
			t.Errorf("the key %s of a service is not known", name)
		}
	}
	for _, name := range tags(reflect.TypeFor[types.Project]()) {
		if !slices.Contains(fileKeys, name) {
			t.Errorf("the key %s of a file is not known", name)
		}
	}
	if !slices.Equal(defaultNames, cli.DefaultFileNames) || !slices.Equal(overrideNames, cli.DefaultOverrideFileNames) {
		t.Errorf("the usual names are %v and %v", cli.DefaultFileNames, cli.DefaultOverrideFileNames)
	}
}
