package report

import (
	"encoding/xml"
	"fmt"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/proof"
	"runcrowd/internal/verdict"
)

// The elements of JUnit XML, as the schema of the Ant task has them, which CI systems read.
type (
	junitSuites struct {
		XMLName xml.Name     `xml:"testsuites"`
		Suites  []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Package    string          `xml:"package,attr"`
		ID         int             `xml:"id,attr"`
		Name       string          `xml:"name,attr"`
		Tests      int             `xml:"tests,attr"`
		Failures   int             `xml:"failures,attr"`
		Errors     int             `xml:"errors,attr"`
		Time       string          `xml:"time,attr"`
		Timestamp  string          `xml:"timestamp,attr"`
		Hostname   string          `xml:"hostname,attr"`
		Properties []junitProperty `xml:"properties>property"`
		Cases      []junitCase     `xml:"testcase"`
		Out        string          `xml:"system-out"`
		Err        string          `xml:"system-err"`
	}
	junitProperty struct {
		Name  string `xml:"name,attr"`
		Value string `xml:"value,attr"`
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		Time    string        `xml:"time,attr"`
		Error   *junitProblem `xml:"error"`
		Failure *junitProblem `xml:"failure"`
	}
	junitProblem struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
)

// mostInCase is how many findings a failure carries.
const mostInCase = 10

// JUnit makes JUnit XML: a requirement is a test case, and so is that the run was played to its
// end. What is not met is a failure, and what is undecided an error, with the first findings
// that it is about; a run that passed has none. Alerts and rounds stand in the output beside.
func JUnit(in *Input) ([]byte, error) {
	r := in.Result
	s := junitSuite{Package: token(r.Crowd), Name: "requirements", Time: seconds(r.Took),
		Timestamp: r.Start.UTC().Format("2006-01-02T15:04:05"), Hostname: "localhost",
		Properties: []junitProperty{{"run", r.Run}, {"folder", in.Folder}, {"messages due", fmt.Sprint(r.Total.Due())},
			{"proven", fmt.Sprint(r.Total[verdict.Proven])}}}
	add := func(name string, state proof.State, message, text string) {
		c := junitCase{Class: token(r.Crowd + "." + s.Name), Name: token(name), Time: seconds(0)}
		s.Tests++
		switch state {
		case proof.NotMet:
			s.Failures++
			c.Failure = &junitProblem{clean(message), string(state), clean(text)}
		case proof.Undecided:
			s.Errors++
			c.Error = &junitProblem{clean(message), string(state), clean(text)}
		}
		s.Cases = append(s.Cases, c)
	}
	for _, c := range in.Checks {
		add(c.Key+": "+c.Want, c.State, c.Got, c.Got+"\n"+about(in, c.Key))
	}
	// A part of a plan is not the plan, however well that went.
	whole, cut := proof.Met, Standing(r)
	if cut != "" {
		whole = proof.Undecided
	}
	add("the run was played to its end", whole, cut, cut)
	var out strings.Builder
	for i := range r.Parts {
		p := &r.Parts[i]
		fmt.Fprintf(&out, "round %d: %d of %d messages proven\n", p.Round, p.Counts[verdict.Proven], p.Counts.Asked())
	}
	for i := range r.Alerts {
		n := &r.Alerts[i]
		fmt.Fprintf(&out, "alert %s: %d of %d given", n.Name, n.Given, n.Called)
		for _, p := range alertParts(n) {
			if p.n > 0 {
				fmt.Fprintf(&out, ", %d %s", p.n, p.verdict)
			}
		}
		out.WriteString("\n")
	}
	s.Out = clean(out.String())
	text, err := xml.MarshalIndent(&junitSuites{Suites: []junitSuite{s}}, "", "  ")
	return append([]byte(xml.Header), append(text, '\n')...), err
}

// about is the first findings that a requirement is about.
func about(in *Input, key string) string {
	_, plain, isRound := strings.Cut(key, ": ")
	if !isRound {
		plain = key
	}
	base, _, _ := strings.Cut(plain, "_")
	switch {
	case strings.HasPrefix(plain, "alerts"):
		var b strings.Builder
		for i := range in.Result.AlertFindings {
			f := &in.Result.AlertFindings[i]
			if i == mostInCase {
				fmt.Fprintf(&b, "and %d more\n", len(in.Result.AlertFindings)-i)
				break
			}
			fmt.Fprintf(&b, "%s: %s: %s\n", f.Alert, f.Device, f.Verdict)
		}
		return b.String()
	case plain == "let_in":
		return findingsText(in, func(f *verdict.Finding) bool { return f.Verdict == verdict.LetIn.String() })
	case plain == "proven":
		return findingsText(in, func(*verdict.Finding) bool { return true })
	case base == "acknowledged":
		return findingsText(in, func(f *verdict.Finding) bool { return f.Outcome != "accepted" })
	case base == "received" || base == "stored":
		proves := map[string]bool{}
		for _, w := range in.Result.Witnesses {
			proves[w.Name] = w.Proves == base
		}
		return findingsText(in, func(f *verdict.Finding) bool {
			return slices.ContainsFunc(f.Testimony, func(t verdict.Testimony) bool {
				return proves[t.Witness] &&
					t.State != verdict.Found
			})
		})
	}
	return ""
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.3f", d.Seconds()) }

// findingsText is the first findings, in short.
func findingsText(in *Input, of func(*verdict.Finding) bool) string {
	var b strings.Builder
	n := 0
	for i := range in.Result.Findings {
		f := &in.Result.Findings[i]
		if !of(f) {
			continue
		}
		if n++; n > mostInCase {
			continue
		}
		fmt.Fprintf(&b, "%s  %s %s #%d: %s", f.Verdict, f.Device, f.Reading, f.Seq, f.Outcome)
		for _, t := range f.Testimony {
			fmt.Fprintf(&b, "; %s: %s", t.Witness, t.Says)
			for _, d := range t.Differences {
				fmt.Fprintf(&b, " (%s: sent %s, found %s)", d.Field, d.Sent, d.Found)
			}
		}
		b.WriteString("\n")
	}
	if n > mostInCase {
		fmt.Fprintf(&b, "and %d more\n", n-mostInCase)
	}
	return b.String()
}

// token is a text of one line, with single blanks.
func token(s string) string { return strings.Join(strings.Fields(clean(s)), " ") }

// clean leaves out what XML 1.0 cannot hold (section 2.2).
func clean(s string) string {
	return strings.Map(func(c rune) rune {
		if c == '\t' || c == '\n' || c == '\r' || c >= 0x20 && c <= 0xd7ff || c >= 0xe000 && c <= 0xfffd || c >= 0x10000 {
			return c
		}
		return '?'
	}, strings.ToValidUTF8(s, "?"))
}
