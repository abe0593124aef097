package test

import (
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// newcomer is somebody who holds one of the demo's devices for the first time.
// All that the newcomer knows is what the console's page says, what is on the
// device's screen, and the card beside it. No way of a family is written down here; only
// what anybody knows of keypads, dials, and letters on number keys.
type newcomer struct {
	d      *demo
	b      *browser
	handle string
	keys   bool // uses the keyboard alone
	narrow bool // holds the console in one hand
	joins  bool // makes an account where the page says that one is missing

	step  string         // the one that was read last
	at    int            // how far its way was gone
	done  map[string]int // what was done before, by where
	kept  string         // letters that the page said to keep in mind
	tried bool
	story []string
}

// pageRead is what the page says about the device, and what can be pressed there.
type pageRead struct {
	Heading, All, Missing string
	Where, Buttons        []string
	Ready, Passed         bool
	Wide                  int      // by how much the page is wider than the window
	Small                 []string // what is too small to be touched
}

// glassRead is what the device in the hand says.
type glassRead struct {
	Says   string
	Things []struct{ Text, Title string }
	Card   []struct{ What, Text string }
	Asks   bool
}

const readPage = `(() => {
	const step = document.querySelector('[aria-label="Step"]');
	if (!step) return null;
	const texts = (q) => [...step.querySelectorAll(q)].map((e) => e.innerText.trim());
	const shown = [...document.querySelectorAll("button, a, select, summary, input")].filter((e) => e.checkVisibility() && e.getBoundingClientRect().height > 0);
	const inline = (e) => e.tagName === "A" && getComputedStyle(e).display === "inline" && e.parentElement.innerText.trim() !== e.innerText.trim();
	return {
		Heading: step.querySelector("h2")?.innerText ?? "", All: step.innerText, Missing: step.querySelector("[aria-label='What is missing']")?.innerText ?? "",
		Where: texts("[aria-label='Where'] li"), Buttons: [...step.querySelectorAll("button, a.press")].filter((e) => !e.disabled && e.checkVisibility()).map((e) => e.innerText.trim()),
		Ready: !!step.querySelector("[aria-label=Ready]"), Passed: document.body.innerText.includes("Passed: "),
		Wide: document.documentElement.scrollWidth - innerWidth,
		Small: shown.filter((e) => !inline(e) && e.getBoundingClientRect().height < 24).map((e) => e.tagName + " " + (e.innerText || e.ariaLabel)),
	} })()`

const readGlass = `(() => ({
	Says: document.getElementById("screen").alt,
	Things: [...document.querySelectorAll("#touch button")].map((e) => ({Text: e.textContent, Title: e.title}))
		.concat([...document.querySelectorAll("main > p.cable button")].map((e) => ({Text: e.textContent, Title: ""}))),
	Card: [...document.querySelectorAll("#card dt")].map((e) => ({What: e.innerText, Text: e.nextElementSibling.innerText})),
	Asks: !!document.getElementById("card")?.open,
}))()`

// leads goes on until the app has passed its tryout, or the page says that this
// bench can do no more. It returns what the page said last.
func (n *newcomer) leads() string {
	n.b.t.Helper()
	n.done = map[string]int{}
	n.b.goes(n.d.console() + "/devices/" + n.handle)
	n.b.sees(n.handle)
	await[bool](n.b, "wait for the device in the hand", fmt.Sprintf(`document.querySelector("iframe")?.src.includes(%q) || !document.querySelector("iframe")`, n.handle))
	time.Sleep(500 * time.Millisecond) // until its page is drawn
	last, still, begun := "", 0, time.Now()
	for range 1000 { // a battery charges for a minute
		p := await[pageRead](n.b, "read the page", readPage)
		g, err := n.glass()
		if err != nil || g.Says == "" && len(g.Things) == 0 {
			time.Sleep(100 * time.Millisecond)
			continue
		}
		if n.narrow {
			require.Zero(n.b.t, p.Wide, "the page scrolls sideways: %s", p.Heading)
			require.Empty(n.b.t, p.Small, "too small to be touched: %s", p.Heading)
		}
		switch {
		case p.Ready && (p.Passed && n.tried || strings.Contains(p.All, "There is no app here that is made for")):
			return p.All
		case strings.Contains(p.All, "Consent needed: ") && strings.Contains(p.All, "on the page Keys"):
			n.consents()
			continue
		case n.joins && slices.Contains(p.Buttons, "Sign in on the page Keys"):
			n.makesAnAccount()
			continue
		case p.Missing != "":
			return p.Missing
		case strings.HasPrefix(p.Heading, "Update "), strings.Contains(p.All, "needs release"): // nobody updates a stand-in
			return p.All
		}
		if p.Heading != n.step { // nobody acts before having read
			n.step, n.at = p.Heading, 0
			time.Sleep(300 * time.Millisecond)
			continue
		}
		if now := p.All + "|" + g.Says; now == last {
			still++
		} else {
			last, still = now, 0
		}
		what := n.moves(p, g)
		if what == "" { // the bench or the device is at it
			require.Less(n.b.t, still, 120, "a dead end\n%s\nthe page says:\n%s\nthe device says:\n%s\n%v", strings.Join(n.story, "\n"), p.All, g.Says, g.Things)
			time.Sleep(150 * time.Millisecond)
			continue
		}
		n.story = append(n.story, fmt.Sprintf("%3.0f s  %s: %s", time.Since(begun).Seconds(), p.Heading, what))
		if os.Getenv("DEVICE") != "" {
			fmt.Println(n.story[len(n.story)-1])
		}
		time.Sleep(150 * time.Millisecond)
	}
	require.Fail(n.b.t, "it never ends", strings.Join(n.story, "\n"))
	return ""
}

// moves does the one thing that a newcomer would do now, and tells what.
func (n *newcomer) moves(p pageRead, g glassRead) string {
	n.b.t.Helper()
	for _, own := range p.Buttons {
		if slices.ContainsFunc([]string{"I have done that", "Show the device", "Stop", "These are its words", "Give up", "Run ", "Sign in "}, func(s string) bool { return strings.HasPrefix(own, s) }) {
			continue
		}
		if n.done[p.Heading+"|"+own] < 3 && n.press(own) {
			n.done[p.Heading+"|"+own]++
			n.tried = n.tried || strings.HasPrefix(own, "Try ")
			return "press " + own
		}
	}
	if letters := regexp.MustCompile(`\b[A-Z]{4}\b`).FindString(g.Says); letters != "" && strings.Contains(p.All, "four letters") {
		n.kept = letters
	}
	if what := n.answers(p, g); what != "" {
		return what
	}
	if len(p.Where) > 0 && n.at >= len(p.Where) { // at the end of the way: the bench sees it, or wants to be told
		if n.once(p.Heading+"|look", 8) {
			return ""
		}
	} else if what := n.walks(p, g); what != "" {
		return what
	}
	if slices.Contains(p.Buttons, "I have done that") && n.done[p.Heading+"|confirm"] == 0 && n.press("I have done that") {
		n.done[p.Heading+"|confirm"]++
		return "press I have done that"
	}
	return ""
}

var (
	toPick     = regexp.MustCompile(`Pick ([0-9]{2}) on its screen`)
	toType     = regexp.MustCompile(`type ([0-9]{4})\b|two groups: ([0-9]{4} [0-9]{4})\b`)
	toHold     = regexp.MustCompile(`hold (\d) and (\d) together`)
	ofADial    = regexp.MustCompile(`(\w+ hand) at (\d+)`)
	howOften   = regexp.MustCompile(`\b(two|three|four|five|six|seven|eight|nine|ten|\d+) times`)
	threeWords = regexp.MustCompile(`\b([a-z]{4,7} [a-z]{4,7} [a-z]{4,7})\. `)
	keyFace    = regexp.MustCompile(`^(Key )?[0-9]$`)
)

// answers gives the device what it asks for: a number that the page names, keys
// that the device names, or something from the card.
func (n *newcomer) answers(p pageRead, g glassRead) string {
	n.b.t.Helper()
	if m := toPick.FindStringSubmatch(p.All); m != nil && n.has(g, m[1]) {
		n.touch(m[1])
		return "pick " + m[1]
	}
	if m := toHold.FindStringSubmatch(g.Says); m != nil && n.once(g.Says, 2) {
		n.touch("Key " + m[1])
		n.touch("Key " + m[2])
		return m[0]
	}
	if m := threeWords.FindStringSubmatch(g.Says); m != nil && strings.Contains(p.All, "The three words on") && n.once(p.Heading+g.Says, 2) {
		n.b.writes("The three words on the screen of "+n.handle, m[1])
		n.press("These are its words")
		return "type " + m[1]
	}
	if strings.Contains(p.All, "The words are correct") && n.has(g, "Always") && n.once(p.Heading+g.Says, 2) {
		n.touch("Always")
		return "let it in"
	}
	pad := slices.ContainsFunc(g.Things, func(t struct{ Text, Title string }) bool { return keyFace.MatchString(t.Text) })
	if m := toType.FindStringSubmatch(p.All); m != nil && pad && n.once(p.Heading+g.Says, 2) {
		n.types(m[1] + m[2])
		n.confirms(p, g)
		return "type " + m[1] + m[2]
	}
	if n.kept != "" && pad && strings.Contains(g.Says, "letters from before") && n.once(p.Heading+g.Says, 2) {
		n.types(strings.Join(keysOf(n.kept), ""))
		n.kept = ""
		return "type the letters"
	}
	if !g.Asks {
		return ""
	}
	for _, line := range g.Card {
		if hands := ofADial.FindAllStringSubmatch(line.Text, -1); hands != nil && n.has(g, hands[0][1]+" on") {
			if !n.once(p.Heading+g.Says, 2) {
				continue
			}
			for _, h := range hands {
				for range 24 {
					now, _ := n.glass()
					if i := slices.IndexFunc(now.Things, func(t struct{ Text, Title string }) bool { return t.Text == h[1]+" on" }); i < 0 || strings.HasSuffix(now.Things[i].Title, h[0]) {
						break
					}
					n.touch(h[1] + " on")
				}
			}
			n.touch("Done")
			return "set the dial: " + line.Text
		}
		if pad && n.isAbout(line.What, g.Says) && n.once(p.Heading+g.Says+line.What, 2) {
			n.types(line.Text)
			n.confirms(p, g)
			return "type " + line.What
		}
	}
	return ""
}

// isAbout tells whether the screen asks for a line of the card: it says one of its words.
func (n *newcomer) isAbout(line, says string) bool {
	for _, w := range strings.Fields(strings.ToLower(line)) {
		if w != "number" && strings.Contains(strings.ToLower(says), w) {
			return true
		}
	}
	return false
}

func (n *newcomer) types(digits string) {
	n.b.t.Helper()
	for _, r := range digits {
		if !unicode.IsDigit(r) {
			continue
		}
		if g, _ := n.glass(); n.has(g, "Key "+string(r)) {
			n.touch("Key " + string(r))
		} else {
			n.touch(string(r))
		}
	}
}

// consents goes to the page Keys, allows the use of the key that waits there, and comes back.
func (n *newcomer) consents() {
	n.b.t.Helper()
	n.b.goes(n.d.console() + "/keys")
	n.b.presses("Allow it once")
	n.b.goes(n.d.console() + "/devices/" + n.handle)
	n.b.sees(n.handle)
	n.story = append(n.story, "       allowed the use of a key on the page Keys")
}

// makesAnAccount goes to the page Keys as the step says, makes an account at the authority, with
// an identity and the app's id, and comes back.
func (n *newcomer) makesAnAccount() {
	n.b.t.Helper()
	require.True(n.b.t, n.press("Sign in on the page Keys"))
	n.b.sees("No account at an authority is in use")
	n.pressesThere("Sign in at fell-authority, or create an account")
	n.b.sees("Type this code there")
	text := get(n.b, "read the code", chromedp.Evaluate[string](`document.body.innerText`))
	require.Contains(n.b.t, text, "Grants last 21 days", "what a standing costs is said before one is chosen")
	n.d.letsIn(userCode.FindString(text), "thwaite", "ridgeway", "full")
	n.b.sees("You are signed in.")
	n.b.sees("Crew ridgeway, number")
	n.b.writes("Name of a new identity", "moor-desk one")
	n.pressesThere("Make a key and get its certificate")
	n.b.sees("key in this safe")
	n.b.goes(n.d.console() + "/devices/" + n.handle)
	n.b.sees(n.handle)
	n.story = append(n.story, "       signed in on the page Keys")
}

// confirms presses what the page names, once something was typed.
func (n *newcomer) confirms(p pageRead, before glassRead) {
	n.b.t.Helper()
	g, err := n.glass()
	if err != nil {
		return
	}
	for i := len(p.Where) - 1; i >= 0; i-- {
		if text := n.named(g, p.Where[i]); text != "" && n.named(before, text) != "" {
			n.touch(text)
			n.at = i + 1
			return
		}
	}
	for _, t := range g.Things {
		if len(t.Text) > 3 && t.Text != "Delete" && (strings.Contains(p.All, t.Text) || t.Text == "Done") {
			n.touch(t.Text)
			return
		}
	}
}

// walks goes one piece further on the way that the step names.
func (n *newcomer) walks(p pageRead, g glassRead) string {
	n.b.t.Helper()
	if n.has(g, "Unlock") && n.once("unlock "+g.Says, 20) {
		n.touch("Unlock")
		return "touch Unlock"
	}
	if strings.Contains(p.Heading, "key at its side") && strings.Contains(g.Says, "dark") {
		n.touch("Power key")
		return "press the power key"
	}
	for i := len(p.Where) - 1; i >= 0; i-- { // the furthest piece that is in sight
		text := n.named(g, p.Where[i])
		if text == "" || !n.once(p.Heading+"|"+g.Says+"|"+text, 3) {
			continue
		}
		times := 1
		if m := howOften.FindStringSubmatch(p.Heading); m != nil && i == len(p.Where)-1 {
			times = 1 + slices.Index([]string{"", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten"}, m[1])
		}
		for range times {
			n.touch(text)
		}
		n.at = i + 1
		return fmt.Sprintf("touch %s %d×", text, times)
	}
	// What the page mentions, the last word first: of two answers it recommends the second.
	best, where := "", -1
	all := strings.ToLower(strings.ReplaceAll(p.All, n.handle, "it"))
	for _, t := range g.Things {
		if i := strings.LastIndex(all, strings.ToLower(t.Text)); len(t.Text) > 2 && i > where && t.Text != "Back" && n.done[p.Heading+"|"+g.Says+"|"+t.Text] == 0 {
			best, where = t.Text, i
		}
	}
	if best != "" && n.once(p.Heading+"|"+g.Says+"|"+best, 1) {
		n.touch(best)
		return "touch " + best
	}
	if len(p.Where) == 0 || n.at >= len(p.Where) {
		return ""
	}
	for _, text := range []string{"Slide on", "Back", "Back"} {
		if n.has(g, text) && n.once(p.Heading+"|"+g.Says+"|"+text, 4) {
			n.touch(text)
			return "touch " + text
		}
	}
	return ""
}

// named finds the thing on the screen that a piece of a way names.
func (n *newcomer) named(g glassRead, piece string) string {
	for _, t := range g.Things {
		_, note, _ := strings.Cut(t.Title, ", ")
		if strings.EqualFold(t.Text, piece) || note != "" && strings.Contains(piece, note) {
			return t.Text
		}
	}
	return ""
}

func (n *newcomer) has(g glassRead, text string) bool {
	return slices.ContainsFunc(g.Things, func(t struct{ Text, Title string }) bool { return t.Text == text })
}

// once tells whether something may be tried (again), and counts it.
func (n *newcomer) once(what string, times int) bool {
	n.done[what]++
	return n.done[what] <= times
}

func (n *newcomer) glass() (g glassRead, err error) {
	inner, err := n.b.frame()
	if err != nil {
		return g, err
	}
	return chromedp.Run(inner, chromedp.Evaluate[glassRead](readGlass))
}

// press presses a button of the page, and reports whether it was hit: it may have gone or
// moved meanwhile.
func (n *newcomer) press(text string) bool {
	n.b.t.Helper()
	if !n.keys {
		return n.b.pressed(text)
	}
	for range 300 { // the frame of the device in the hand, while it restarts, keeps the focus for some
		at := get(n.b, "look where the focus is", chromedp.Evaluate[string](focused))
		if strings.HasPrefix(at, text) {
			get(n.b, "Enter", chromedp.KeyEvent("\r"))
			return true
		}
		if p := await[pageRead](n.b, "read the page", readPage); !slices.Contains(p.Buttons, text) {
			return false
		}
		get(n.b, "Tab", chromedp.KeyEvent(kb.Tab))
	}
	require.Fail(n.b.t, "the focus never comes to "+text)
	return false
}

// pressesThere presses a button of another page, which is there.
func (n *newcomer) pressesThere(text string) {
	n.b.t.Helper()
	if !n.keys {
		n.b.presses(text)
		return
	}
	n.b.tabsTo(text)
	get(n.b, "Enter", chromedp.KeyEvent("\r"))
}

// touch touches something on the device's screen or beside it, unless it has gone meanwhile.
func (n *newcomer) touch(text string) {
	n.b.t.Helper()
	if n.narrow && !n.inSight() {
		n.b.presses("Show the device in your hand")
		n.d.eventually("the device is one touch away", n.inSight)
	}
	if n.keys {
		n.touchByKey(text)
		return
	}
	for range 3 {
		if n.b.touches(text) == nil {
			return
		}
	}
}

// inSight reports whether the device stands still within the window.
func (n *newcomer) inSight() bool {
	n.b.t.Helper()
	top := func() float64 {
		return get(n.b, "look for the device", chromedp.Evaluate[float64](`document.querySelector("iframe")?.getBoundingClientRect().top ?? -1`))
	}
	was := top()
	if was < 0 || was+600 > 844 {
		return false
	}
	time.Sleep(50 * time.Millisecond)
	return top() == was
}

// touchByKey presses Tab until the focus is on a button of the device's page, and then Enter.
func (n *newcomer) touchByKey(text string) {
	n.b.t.Helper()
	find := fmt.Sprintf(`(() => {
		const is = (e) => e.textContent === %[1]q || e.getAttribute("aria-label") === %[1]q;
		if (document.hasFocus() && is(document.activeElement)) return "here";
		return [...document.querySelectorAll("button")].some(is) ? "elsewhere" : "gone" })()`, text)
	for range 160 {
		inner, err := n.b.frame()
		require.NoError(n.b.t, err)
		in := get(n.b, "look where the focus is", chromedp.Evaluate[bool](`document.activeElement?.tagName === "IFRAME"`))
		at, err := chromedp.Run(inner, chromedp.Evaluate[string](find))
		if err != nil || at == "gone" {
			return
		}
		if in && at == "here" {
			get(n.b, "Enter", chromedp.KeyEvent("\r"))
			time.Sleep(30 * time.Millisecond)
			return
		}
		get(n.b, "Tab", chromedp.KeyEvent(kb.Tab))
	}
	require.Fail(n.b.t, "the focus never comes to "+text)
}
