package jobs_test

import (
	"bytes"
	"errors"
	"flag"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"runcrowd/internal/check"
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/jobs"
)

var update = flag.Bool("update", false, "write the manifest in testdata anew")

const harbour = `crowd: Skerry_Roads
links: {sea: {mqtt: "mqtt://broker:1883", username: "${device}", password: "${env.HARBOUR_TOKEN}"}}
kinds:
  buoy:
    link: sea
    readings: {state: {every: 1s, topic: "harbour/${device}/state", payload: {template_file: bodies/state.json}, fields: {wave_m: 1}}}
devices: [{roster: buoys.csv, kind: buoy}]
plan: {for: 10m}
witnesses: {ear: {proves: received, subscribe: "harbour/#", wait: 1m}}
`

const secret = "a-long-secret-token"

// job is one of a crowd of three devices, in two parts.
func job(t *testing.T, files map[string]string) *jobs.Job {
	all := map[string]string{"crowd.yaml": harbour, "buoys.csv": "device\nbuoy-1\nbuoy-2\nbuoy-3\n", "bodies/state.json": `{"mark": "${mark}", "w": ${wave_m}}`}
	for name, text := range files {
		all[name] = text
	}
	dir := t.TempDir()
	for name, text := range all {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	c, err := file.Parse(filepath.Join(dir, "crowd.yaml"), []byte(all["crowd.yaml"]),
		file.Sources{Getenv: func(string) (string, bool) { return secret, true }})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	_, load := check.Check(f, check.Options{Parts: 2, MaxFiles: 20_000})
	return &jobs.Job{Crowd: c, Needs: load.Needs, Length: load.Length, Name: "night of 2/12", Image: "registry.example/runcrowd:0.1.0",
		Program: "runcrowd", File: "/shared/harbour/crowd.yaml", Out: "/shared/runs", More: []string{"--set", "plan.for=9m"}}
}

// The manifest is what it was. It was checked with the API server's own validation, strictly.
func TestTheManifest(t *testing.T) {
	got, err := job(t, nil).Kubernetes()
	require.NoError(t, err)
	if *update {
		require.NoError(t, os.WriteFile("testdata/skerry-roads.k8s.yaml", got, 0o644))
	}
	want, err := os.ReadFile("testdata/skerry-roads.k8s.yaml")
	require.NoError(t, err)
	assert.Equal(t, string(want), string(got))
	assert.NotContains(t, string(got), secret)
}

// read are the documents of a manifest, by their kinds.
func read(t *testing.T, text []byte) map[string][]map[string]any {
	by := map[string][]map[string]any{}
	for d := yaml.NewDecoder(bytes.NewReader(text)); ; {
		var doc map[string]any
		err := d.Decode(&doc)
		if errors.Is(err, io.EOF) {
			return by
		}
		require.NoError(t, err)
		by[doc["kind"].(string)] = append(by[doc["kind"].(string)], doc)
	}
}

// What the manifest carries arrives in the pods as it was, or it is told where else it can be.
func TestWhatAManifestCarries(t *testing.T) {
	odd := "a: 1  \n\n  x\ttab\r\nü — 'quotes' \"double\"\n\n\n"
	j := job(t, map[string]string{"bodies/state.json": `{"mark": "${mark}", "w": ${wave_m}, "text": "ü"}` + "\n\n"})
	j.Crowd.Files[0].Data = []byte(odd)
	j.Crowd.Files[0].Copy = j.Crowd.Files[0].Data
	text, err := j.Kubernetes()
	require.NoError(t, err)
	by := read(t, text)
	data := by["ConfigMap"][0]["data"].(map[string]any)
	assert.Equal(t, harbour, data["crowd.yaml"])
	assert.Equal(t, odd, data["file-1"])
	assert.Len(t, by["PersistentVolumeClaim"], 1)
	assert.Len(t, by["Job"], 2)

	j.Crowd.Files[0].Data = []byte{0xff, 0x00, 0xfe}
	j.Crowd.Files[0].Copy = j.Crowd.Files[0].Data
	text, err = j.Kubernetes()
	require.NoError(t, err)
	assert.Equal(t, "/wD+", read(t, text)["ConfigMap"][0]["binaryData"].(map[string]any)["file-1"])

	for says, change := range map[string]func(){
		"secrets stand in": func() { j.Crowd.Files[0].Copy = nil },
		"which is not in its folder; copy the crowd's folder to the volume": func() { j.Crowd.Files[0].Name = "../buoys.csv" },
		"more than a ConfigMap holds": func() {
			j.Crowd.Files[0].Data = bytes.Repeat([]byte("x"), 1<<20)
			j.Crowd.Files[0].Copy = j.Crowd.Files[0].Data
		},
		"secrets stand in the crowd file in plain text": func() {
			j = job(t, map[string]string{"crowd.yaml": strings.Replace(harbour, `"${env.HARBOUR_TOKEN}"`, "a-plain-secret", 1)})
		},
	} {
		j = job(t, nil)
		change()
		_, err := j.Kubernetes()
		assert.ErrorContains(t, err, says)
		j.Folder, j.Claim = "crowds/skerry", "shared-runs"
		text, err := j.Kubernetes()
		require.NoError(t, err, says)
		by := read(t, text)
		assert.Empty(t, by["ConfigMap"])
		assert.Empty(t, by["PersistentVolumeClaim"])
		assert.Contains(t, string(text), "/runs/crowds/skerry/crowd.yaml")
		assert.NotContains(t, string(text), "a-plain-secret")
	}
}

// The scripts hand names to the program as they are, whatever is in them.
func TestTheScriptsOfSlurm(t *testing.T) {
	j, dir := job(t, nil), t.TempDir()
	j.Program = filepath.Join(dir, "it's a $program")
	j.File = "/shared/a \"harbour\"/$(crowd).yaml"
	j.More = append(j.More, "--set", "plan.for=`9m`")
	require.NoError(t, os.WriteFile(j.Program, []byte("#!/bin/sh\nprintf '%s\\n' \"$@\"\n"), 0o700))
	list, err := j.Slurm()
	require.NoError(t, err)
	for name, text := range list {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o600))
		assert.NotContains(t, string(text), secret)
	}
	play := func(name string, env ...string) (string, error) {
		cmd := exec.Command("sh", append([]string{filepath.Join(dir, name)}, "4711")...)
		cmd.Env = append(os.Environ(), env...)
		out, err := cmd.Output()
		return string(out), err
	}
	_, err = play("play.sbatch", "HARBOUR_TOKEN=", "SLURM_ARRAY_TASK_ID=2", "SLURM_ARRAY_JOB_ID=4711")
	assert.Error(t, err)
	out, err := play("play.sbatch", "HARBOUR_TOKEN=x", "SLURM_ARRAY_TASK_ID=2", "SLURM_ARRAY_JOB_ID=4711")
	require.NoError(t, err)
	assert.Equal(t, []string{"run", j.File, "--part", "2/2", "--run", "4711", "--out", "/shared/runs", "--quiet", "--judge-later", "--set", "plan.for=9m",
		"--set", "plan.for=`9m`"}, strings.Split(strings.TrimSpace(out), "\n"))
	out, err = play("judge.sbatch")
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(out, "verify\n/shared/runs/Skerry_Roads-4711-*/\n--to\n"), out)

	assert.Contains(t, string(list["play.sbatch"]), "#SBATCH --time=24\n", "ten minutes, a tenth more, three minutes for the witness, ten more")
	j.Length = 0
	list, err = j.Slurm()
	require.NoError(t, err)
	assert.NotContains(t, string(list["play.sbatch"]), "--time")
	j.Needs.Cores, j.Needs.Memory = 2.1, 3e9
	list, err = j.Slurm()
	require.NoError(t, err)
	assert.Contains(t, string(list["play.sbatch"]), "#SBATCH --cpus-per-task=3\n#SBATCH --mem=3300M\n")
	j.More = []string{"--set", "links.sea.password=" + secret}
	_, err = j.Slurm()
	assert.ErrorContains(t, err, "a value that is given with --set is a secret")
	j.Folder = "crowds/skerry"
	_, err = j.Kubernetes()
	assert.ErrorContains(t, err, "a value that is given with --set is a secret")
	j.More = nil
	j.Out = "/shared/my runs"
	_, err = j.Slurm()
	assert.ErrorContains(t, err, `has a " ", and sbatch reads its name in a way of its own`)
}
