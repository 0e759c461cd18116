package report

import (
	"encoding/xml"
	"fmt"
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

// JUnit makes JUnit XML: a requirement, an alert and a round is a test case each. What is not
// met is a failure, and what is undecided an error, with the first findings.
func JUnit(in *Input) ([]byte, error) {
	r := in.Result
	first := findingsText(in, func(*verdict.Finding) bool { return true })
	suite := func(name string) junitSuite {
		return junitSuite{Package: token(r.Crowd), Name: name, Time: seconds(r.Took), Timestamp: r.Start.UTC().Format("2006-01-02T15:04:05"), Hostname: "localhost",
			Properties: []junitProperty{{"run", r.Run}, {"folder", in.Folder}, {"messages due", fmt.Sprint(r.Total.Due())}, {"proven", fmt.Sprint(r.Total[verdict.Proven])}}}
	}
	add := func(s *junitSuite, name string, took time.Duration, state proof.State, message, text string) {
		c := junitCase{Class: token(r.Crowd + "." + s.Name), Name: token(name), Time: seconds(took)}
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
	requirements := suite("requirements")
	for _, c := range in.Checks {
		add(&requirements, c.Key+": "+c.Want, 0, c.State, c.Got, c.Got+"\n"+first)
	}
	// A part of a plan is not the plan, however well that went.
	whole, cut := proof.Met, Standing(r)
	if cut != "" {
		whole = proof.Undecided
	}
	add(&requirements, "the run was played to its end", 0, whole, cut, cut)
	list := []junitSuite{requirements}
	if len(r.Alerts) > 0 {
		s := suite("alerts")
		for i := range r.Alerts {
			n := &r.Alerts[i]
			state, parts := proof.Met, ""
			for _, p := range alertParts(n) {
				if p.n > 0 {
					parts += fmt.Sprintf(", %d %s", p.n, p.verdict)
				}
			}
			switch {
			case n.Exact():
			case n.Unknown > 0 && n.Missing+n.Late+n.Repeated+n.Unexpected == 0:
				state = proof.Undecided
			default:
				state = proof.NotMet
			}
			text := ""
			for k := range r.AlertFindings {
				if f := &r.AlertFindings[k]; f.Alert == n.Name {
					text += fmt.Sprintf("%s: %s\n", f.Device, f.Verdict)
				}
			}
			add(&s, n.Name, 0, state, fmt.Sprintf("%d of %d given%s", n.Given, n.Called, parts), text)
		}
		list = append(list, s)
	}
	s := suite("rounds")
	for i := range r.Parts {
		p := &r.Parts[i]
		due, proven := p.Counts.Asked(), p.Counts[verdict.Proven]
		state := proof.Met
		switch {
		case due > 0 && proven == due:
		case due-proven == p.Counts[verdict.Unknown]:
			state = proof.Undecided
		default:
			state = proof.NotMet
		}
		add(&s, fmt.Sprintf("round %d: %d messages", p.Round, due), 0, state, fmt.Sprintf("%d of %d messages proven", proven, due),
			findingsText(in, func(f *verdict.Finding) bool { return f.Round == p.Round }))
	}
	list = append(list, s)
	for i := range list {
		list[i].ID = i
	}
	all := junitSuites{Suites: list}
	text, err := xml.MarshalIndent(&all, "", "  ")
	return append([]byte(xml.Header), append(text, '\n')...), err
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
