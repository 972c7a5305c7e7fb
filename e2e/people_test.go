package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// office is a demo in which everybody says who they are, and their tokens.
type office struct {
	*server
	tokens map[string]string
}

func anOffice(t *testing.T) *office {
	t.Helper()
	s := launch(t, "demo", "-sign-in", "-dir", filepath.Join(t.TempDir(), "harbour"), "-listen", "127.0.0.1:0")
	o := &office{s, map[string]string{}}
	for _, m := range regexp.MustCompile(`(?m)^ +(\w+) +.* ((\w+)\.[\w-]{40,})$`).FindAllStringSubmatch(s.err.String(), -1) {
		o.tokens[m[1]] = m[2]
	}
	require.Len(t, o.tokens, 4, s.err.String())
	return o
}

// as runs a command as somebody.
func (o *office) as(t *testing.T, name string, args ...string) result {
	t.Helper()
	t.Setenv("STONEBATON_TOKEN", o.tokens[name])
	return o.run(t, args...)
}

// enters signs somebody in, in a browser of their own.
func (o *office) enters(t *testing.T, name string) *page {
	t.Helper()
	p := browse(t, o.url)
	p.open("/tickets")
	p.sees("Your token")
	p.sound("the page on which one signs in")
	p.keys("input[type=password]", o.tokens[name])
	p.click("Sign in")
	p.until(`document.querySelector("header nav")`)
	p.sees(name)
	return p
}

func TestAWaiverByTwoPeopleInTwoBrowsers(t *testing.T) {
	o := anOffice(t)
	said := o.as(t, "ines", "say", "-json", "Waive 700 EUR of the dues of the Gannet, because the pontoon was broken.")
	require.Equal(t, 4, said.code, said.err)
	run := regexp.MustCompile(`"id": "(\w+-1)"`).FindStringSubmatch(said.out)[1]
	ticket := regexp.MustCompile(`ticket (\d+): Waive 700`).FindStringSubmatch(o.as(t, "mara", "tickets").out)[1]

	jonas, mara := o.enters(t, "jonas"), o.enters(t, "mara")
	jonas.open("/tickets/" + ticket)
	jonas.sees("2 of harbourmaster, treasurer, deputy have to agree")
	jonas.click("Agree")
	jonas.sees("You have agreed; it waits for others.")
	jonas.sound("a ticket that one has agreed to")
	assert.NotContains(t, o.as(t, "jonas", "tickets", "-json").out, "nothing", "he still sees it")

	mara.open("/tickets/" + ticket)
	mara.sees("jonas agrees")
	mara.click("Change…")
	mara.until(`document.querySelector("input[id$=eur]")`)
	js[chromedp.Void](mara, `document.querySelector("input[id$=eur]").select()`)
	mara.keys("input[id$=eur]", "550")
	mara.click("Change and allow")
	mara.sees("mara changed it, and agrees")
	jonas.sees("Waive 550 of")
	jonas.click("Agree")
	jonas.sees("changed and allowed by mara and jonas")
	require.Equal(t, 0, o.as(t, "ines", "follow", run).code)
	shown := o.as(t, "ines", "show", run, "-whole").out
	assert.Contains(t, shown, "Waived 550 EUR")
	assert.Contains(t, shown, `Mara and jonas changed eur from "700" to "550" before agreeing`)
	record := o.as(t, "mara", "record").out
	assert.Regexp(t, `jonas +settle +ticket `+ticket+`: allow \(sign-in\)`, record)
	assert.Regexp(t, `mara +settle +ticket `+ticket+`: amend \(sign-in\)`, record)
	assert.NotContains(t, o.as(t, "jonas", "record").out, "mara")
	assert.Contains(t, o.as(t, "jonas", "show", run).err, "there is no such run", "who decides sees the ticket, not the run")
	mara.open("/record")
	mara.sees("Who did what")
	mara.sees("ticket " + ticket)
	mara.sound("the record")
	mara.open("/people")
	mara.sees("ines@kelmere.example")
	mara.sound("the people")
	jonas.open("/tickets")
	js[chromedp.Void](jonas, `[...document.querySelectorAll("[role=radio]")].find(e => e.innerText === "you wait for").click()`)
	jonas.sees("You wait for nobody.")
	jonas.open("/people")
	jonas.sees("may not do this")
	mara.click("mara")
	mara.click("Sign out")
	mara.sees("Your token")
}

func TestALinkOnAPhone(t *testing.T) {
	o := anOffice(t)
	var link string
	require.Eventually(t, func() bool {
		m := regexp.MustCompile(`(?s)to mara@kelmere.example: Reserve C4.*?Decide here: http://[^/]+(/link#\S+)`).FindStringSubmatch(o.as(t, "mara", "outbox").out)
		if m != nil {
			link = m[1]
		}
		return m != nil
	}, 20*time.Second, 20*time.Millisecond)
	assert.NotContains(t, o.as(t, "ines", "outbox").out, "link#", "links are not shown to whoever asked")
	p := browse(t, o.url)
	require.NoError(t, chromedp.Do(p.ctx, chromedp.EmulateViewport(390, 800)))
	p.open(link)
	p.sees("Reserve C4 for the Marrow Light")
	p.sound("the page of a link")
	assert.True(t, js[bool](p, "document.documentElement.scrollWidth <= 390"), "it fits")
	p.open("/runs") // it lets nobody in
	p.sees("Your token")
	p.open(link)
	p.sees("For mara")
	p.click("Allow")
	p.sees("allowed by mara as harbourmaster")
	p.open("/")
	p.open(link)
	p.sees("it is good once")
	q := browse(t, o.url)
	q.open(link[:len(link)-4] + "AAAA")
	q.sees("The link is not valid")
	assert.Regexp(t, `mara +linkSettle +ticket \d+: allow \(link\)`, o.as(t, "mara", "record").out)
}

// TestTheWorkshopWritesAProgram: with a slip in it, fixed, run after somebody agreed to each
// version; the table opens from the step, and the program becomes a tool.
func TestTheWorkshopWritesAProgram(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "harbour")
	s := demo(t, dir)
	j := sayJSON(t, s, 4, "Write me a table of the tide windows of the weekend as a program.")
	shown := s.run(t, "tickets", itoa(j.Tickets[0])).out
	assert.Contains(t, shown, "Run windows.sh (sh)?")
	assert.Contains(t, shown, "           set -eu\n", "the program is shown as it is")
	require.Equal(t, 0, s.run(t, "allow", itoa(j.Tickets[0])).code)
	var second string
	require.Eventually(t, func() bool {
		m := regexp.MustCompile(`ticket (\d+): Run windows.sh`).FindStringSubmatch(s.run(t, "tickets").out)
		if m != nil {
			second = m[1]
		}
		return m != nil
	}, 20*time.Second, 20*time.Millisecond)
	assert.Contains(t, s.run(t, "tickets", second).out, "+closes=10:55", "and what has changed since")
	p := browse(t, s.url)
	p.open("/tickets/" + second)
	p.sees("+closes=10:55")
	p.sound("a ticket about a program")
	p.click("Allow")
	require.Equal(t, 0, s.run(t, "follow", j.ID).code)
	assert.Contains(t, s.run(t, "show", j.ID).out, "Here is the table of tide windows")
	assert.Equal(t, "day,opens,closes\nFri,06:10,10:55\nFri,18:35,23:20\nSat,06:10,10:55\nSat,18:35,23:20\nSun,06:10,10:55\nSun,18:35,23:20\n", s.run(t, "show", j.ID, "-file", "windows.csv").out)
	assert.Contains(t, s.run(t, "show", j.ID, "-file", "window.csv").err, `Did you mean "windows.csv"?`)

	p.open("/runs/" + j.ID)
	p.until(`document.querySelectorAll("svg [data-step]").length >= 7`)
	js[chromedp.Void](p, `[...document.querySelectorAll("svg [data-step]")].filter(e => e.textContent.includes("run_program")).at(-1).dispatchEvent(new MouseEvent("click", {bubbles: true}))`)
	p.click("Sent")
	p.sees("windows.csv")
	p.until(`document.querySelector("section[aria-label=files] button")`)
	js[chromedp.Void](p, `document.querySelector("section[aria-label=files] button").click()`)
	p.until(`document.querySelector("[role=dialog] table") && document.querySelector("[role=dialog]").innerText.includes("18:35")`)
	p.sound("a table that a program made")

	assert.Contains(t, s.run(t, "keep", j.ID, "-step", "4", "-name", "tide_table", "-summary", "Make a table.").err, "ended with code 2")
	kept := s.run(t, "keep", j.ID, "-step", "6", "-name", "tide_table", "-summary", "Make the table of the tide windows of the weekend when somebody asks for it.")
	require.Equal(t, 0, kept.code, kept.err)
	assert.Contains(t, kept.out, "sh tools/tide_table/windows.sh")
	assert.FileExists(t, filepath.Join(dir, "tools", "tide_table", "windows.sh"))
	assert.Contains(t, s.run(t, "keep", j.ID, "-step", "6", "-name", "tide_table", "-summary", "Again.").err, "already")
	assert.Contains(t, s.run(t, "try", "tide_table").out, "6 windows")
}

// TestAServiceForOthers serves over TLS to people with tokens.
func TestAServiceForOthers(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "w")
	command(t, "", "", "new", dir)
	cert, key := certificate(t)
	r := command(t, "", "", "person", "add", "mara", "-dir", dir, "-rights", "talk,view,build,approve,admin")
	require.Equal(t, 0, r.code, r.err)
	token := strings.TrimSpace(r.out)
	assert.Contains(t, command(t, "", "", "serve", dir, "-listen", "0.0.0.0:0").err, "needs TLS")
	assert.Contains(t, command(t, "", "", "serve", dir, "-listen", "0.0.0.0:0", "-behind-proxy", "-local").err, "-local trusts whoever comes from this machine")
	assert.Contains(t, command(t, "", "", "person", "add", "mara", "-dir", dir, "-rights", "talk").err, "mara is there already")
	assert.Contains(t, command(t, "", "", "person", "list", "-dir", dir).out, "mara         talk, view, build, approve, admin")
	s := launch(t, "serve", dir, "-listen", "0.0.0.0:0", "-cert", cert, "-key", key)
	t.Setenv("SSL_CERT_FILE", cert)
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	assert.Contains(t, s.run(t, "runs").err, "it is not known who asks")
	assert.Contains(t, command(t, s.url, "mara.wrong\n", "sign-in").err, "the token is not valid")
	assert.Contains(t, command(t, s.url, token+"\n", "sign-in").out, "You are mara at "+s.url)
	assert.Equal(t, 0, s.run(t, "say", "hello").code)
	assert.Contains(t, s.run(t, "record").out, "begin")
	assert.True(t, strings.HasPrefix(s.run(t, "record", "-csv").out, "n,at,person,via,did,about,detail\n"))
	require.Equal(t, 0, command(t, "", "", "person", "token", "mara", "-dir", dir).code)
	assert.Contains(t, s.run(t, "runs").err, "the token is not valid", "a new token puts an end to the old one, with no restart")
	assert.Contains(t, s.run(t, "sign-out").out, "Nobody is signed in")
}

// certificate makes one for this machine and gives the files of it and its key.
func certificate(t *testing.T) (cert, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "quay"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &k.PublicKey, k)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(k)
	require.NoError(t, err)
	dir := t.TempDir()
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), 0o600))
	return cert, key
}
