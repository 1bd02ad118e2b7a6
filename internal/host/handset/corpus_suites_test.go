package handset

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/verdict"
	"yamato/internal/host/driver"
	"yamato/internal/testbin"
)

// truths are what is so on the pages of the corpus, five of each: a case that holds there, how the page is broken (a
// style sheet, or a script after "js:"), and the case that holds then. So a page has ten cases, and as it comes half of
// them fail; broken, the other half. Steps are parted by semicolons.
var truths = map[string][5][3]string{
	"bootstrap": {
		{`expect "Late today"`, `.alert{display:none}`, `expect no "Late today"`},
		{`tap #sw; expect #sw is checked`, `js:sw.addEventListener('change', () => { sw.checked = false })`,
			`tap #sw; expect #sw is unchecked`},
		{`tap button called "Luggage"; expect "Two bags"`, `.accordion-body{opacity:0}`,
			`tap button called "Luggage"; expect no "Two bags" for 1s`},
		{`tap #ask; expect "It costs €3.15"`, `js:document.querySelector('.modal-body').textContent = 'It costs €6.30'`,
			`tap #ask; expect "It costs €6.30"`},
		{`expect 2 listitem below #ac`, `js:document.querySelector('.list-group li').remove()`,
			`expect 1 listitem below #ac`}},
	"shoelace": {
		{`expect button called "Buy"`, `#b{visibility:hidden}`, `expect no button called "Buy"`},
		{`expect checkbox called "Agree" is checked`, `js:c.checked = false`,
			`expect checkbox called "Agree" is unchecked`},
		{`expect "Outbound"`, `js:document.querySelector('sl-tab-group').show('b')`, `expect "Homeward"`},
		{`expect no "Hidden words"`, `js:document.querySelector('sl-details').open = true`, `expect "Hidden words"`},
		{`expect "In a card"`, `sl-card{clip-path:inset(50%)}`, `expect no "In a card"`}},
	"chart": {
		{`expect img called "Passengers by month"`, `#c{display:none!important}`,
			`expect no img called "Passengers by month"`},
		{`expect heading called "Passengers"`, `js:document.querySelector('h1').textContent = 'Passenger'`,
			`expect heading called "Passenger"`},
		{`expect #p shows "Five at most"`, `js:p.textContent = 'Six at most'`, `expect #p shows "Six at most"`},
		{`expect no "Late"`, `js:add('Late')`, `expect "Late"`},
		{`expect 1 heading`, `js:document.body.append(Object.assign(document.createElement('h2'), {textContent: 'Again'}))`, `expect 2 heading`}},
	"drawings": {
		{`expect "Haruka"`, `js:d3.selectAll('.tick text').filter((d) => d === 'Haruka').text('Minami')`,
			`expect "Minami"`},
		{`expect no "Unseen"`, `js:d3.selectAll('g').filter(function() { return this.getAttribute('opacity') === '0' }).attr('opacity', 1)`, `expect "Unseen"`},
		{`expect "55"`, `js:d3.selectAll('.v').filter((d) => d === 55).attr('visibility', 'hidden')`, `expect no "55"`},
		{`expect #p shows "Below"`, `#p{color:#fff}`, `expect no #p`},
		{`expect #bar1`, `#bar1{display:none}`, `expect no #bar1`}},
	"map": {
		{`expect button called "Zoom in"`, `.leaflet-control-zoom{display:none}`, `expect no button called "Zoom in"`},
		{`expect "Quay 3"`, `js:document.querySelector('.leaflet-popup').remove()`, `expect no "Quay 3"`},
		{`tap button called "Close popup"; expect no "Quay 3"`,
			`js:addEventListener('click', (e) => { if (e.target.closest('.leaflet-popup-close-button')) e.stopImmediatePropagation() }, true)`, `expect no "Quay 3" for 1s`},
		{`expect #p shows "Where"`, `js:p.textContent = 'There'`, `expect #p shows "There"`},
		{`expect #p below #m`, `#p{position:fixed;top:0;z-index:9999}#m{margin-top:60px}`, `expect #p above #m`}},
	"editor": {
		{`expect heading called "Crossing"`, `.ql-editor h2{display:none}`, `expect no heading called "Crossing"`},
		{`expect "From Sora to Tobi"`, `js:document.querySelector('.ql-editor p').textContent = 'From Tobi to Sora'`,
			`expect "From Tobi to Sora"`},
		{`expect at least 2 listitem`, `js:document.querySelector('.ql-editor li').remove()`, `expect 1 listitem`},
		{`expect button called "bold" is enabled`, `js:document.querySelector('.ql-bold').disabled = true`,
			`expect button called "bold" is disabled`},
		{`expect no "Late"`, `js:add('Late')`, `expect "Late"`}},
	"dates": {
		{`expect no "Later"`, `js:add('Later')`, `expect "Later"`},
		{`expect "31"`, `.flatpickr-calendar{display:none}`, `expect no "31"`},
		{`expect #d shows "2026-05-31"`, `js:d.value = '2026-05-30'`, `expect #d shows "2026-05-30"`},
		{`expect at least 30 /\d+/`, `.dayContainer{visibility:hidden}`, `expect at most 29 /\d+/`},
		{`expect no "Late"`, `js:add('Late')`, `expect "Late"`}},
	"choices": {
		{`expect "Haruka"`, `js:document.querySelector('.choices__item[data-value=Haruka]').remove()`,
			`expect no "Haruka"`},
		{`expect no "Two"`, `js:add('Two')`, `expect "Two"`},
		{`expect "One"`, `.choices[data-type=select-one]{height:0;overflow:hidden;padding:0;margin:0}`,
			`expect no "One"`},
		{`expect "Sora"`, `.choices__list--multiple .choices__item{visibility:hidden}`, `expect no "Sora"`},
		{`expect at least 2 button called /Remove item.*/`, `.choices__button{display:none!important}`,
			`expect no button called /Remove item.*/`}},
	"tom": {
		{`expect "Sora"`, `.ts-control .item{display:none}`, `expect no "Sora"`},
		{`expect no "Tobi"`, `js:add('Tobi')`, `expect "Tobi"`},
		{`expect #p shows "After"`, `js:p.textContent = 'Then'`, `expect #p shows "Then"`},
		{`expect 1 combobox`, `.ts-wrapper{display:none}`, `expect 0 combobox`},
		{`expect no "Late"`, `js:add('Late')`, `expect "Late"`}},
	"table": {
		{`expect "Fare"`, `.tabulator-header{visibility:hidden}`, `expect no "Fare"`},
		{`expect no "1999"`, `js:add('1999')`, `expect "1999"`},
		{`expect "3.15"`, `.tabulator-row:first-child{display:none!important}`, `expect no "3.15"`},
		{`expect at least 5 row`, `.tabulator-tableholder{height:40px!important;max-height:40px!important;min-height:0!important}`, `expect at most 4 row`},
		{`expect no "Late"`, `js:add('Late')`, `expect "Late"`}},
	"swipe": {
		{`expect heading called "Sora"`, `.swiper-slide:first-child h2{opacity:0}`, `expect no heading called "Sora"`},
		{`expect no heading called "Tobi"`, `.swiper-slide{width:40%!important}`, `expect heading called "Tobi"`},
		{`tap button called "Next slide"; expect heading called "Tobi"`, `h2{white-space:nowrap}`,
			`expect heading called "Haruka"`},
		{`expect button called "Next slide"`, `.swiper-button-next{display:none}`,
			`expect no button called "Next slide"`},
		{`expect no "Late"`, `js:add('Late')`, `expect "Late"`}},
	"sliders": {
		{`expect "100"`, `.noUi-pips{display:none}`, `expect no "100"`},
		{`expect 2 slider`, `js:document.querySelector('.noUi-origin').remove()`, `expect 1 slider`},
		{`expect "80.00"`, `js:s.noUiSlider.set([20, 70])`, `expect "70.00"`},
		{`expect "20.00" left of "80.00"`, `.noUi-base{opacity:.99}`, `expect no "20.00"`},
		{`expect no "Late"`, `js:add('Late')`, `expect "Late"`}},
	"plain forms": {
		{`expect heading called "Tickets"`, `h2{font-size:0!important}`, `expect no heading called "Tickets"`},
		{`tap #sw; expect #sw is checked`, `js:sw.disabled = true`, `expect #sw is disabled`},
		{`expect #ch is checked`, `js:ch.checked = false`, `expect #ch is unchecked`},
		{`expect "Open words"`, `js:document.querySelector('details').open = false`, `expect no "Open words"`},
		{`expect no "Closed words"`, `js:document.querySelectorAll('details')[1].open = true`,
			`expect "Closed words"`}},
	"columns": {
		{`expect heading called "Sorane Line"`, `.title{text-indent:-9999px}`,
			`expect no heading called "Sorane Line"`},
		{`expect no "Hidden item"`, `.dropdown-menu{display:block!important;position:static!important}`,
			`expect "Hidden item"`},
		{`expect "Words"`, `.notification{max-height:0;padding:0!important;overflow:hidden}`, `expect no "Words"`},
		{`expect checkbox called "Agree" is unchecked`, `js:document.querySelector('[type=checkbox]').checked = true`,
			`expect checkbox called "Agree" is checked`},
		{`expect "Now" left of "Later"`, `.tabs ul{flex-direction:row-reverse}`, `expect "Now" right of "Later"`}},
	"formulas": {
		{`expect #p shows "Above"`, `js:p.textContent = 'Beyond'`, `expect #p shows "Beyond"`},
		{`expect #f above #p`, `body{display:flex;flex-direction:column-reverse}`, `expect #f below #p`},
		{`expect #f contains "b"`, `js:katex.render('a = d', f)`, `expect #f contains "d"`},
		{`expect no "Later"`, `js:add('Later')`, `expect "Later"`},
		{`expect no "Late"`, `js:add('Late')`, `expect "Late"`}},
	"sorting": {
		{`expect "Sora" above "Tobi"`, `#l{display:flex;flex-direction:column-reverse}`, `expect "Sora" below "Tobi"`},
		{`expect 3 listitem`, `#l li:last-child{display:none}`, `expect 2 listitem`},
		{`expect "Haruka"`, `#l li:last-child{opacity:0}`, `expect no "Haruka"`},
		{`expect no "Later"`, `js:add('Later')`, `expect "Later"`},
		{`expect no "Late"`, `js:add('Late')`, `expect "Late"`}},
	"right to left": {
		{`expect heading called "جدول المواعيد"`, `h1{display:none}`, `expect no heading called "جدول المواعيد"`},
		{`expect #p contains "المجموع"`, `js:p.textContent = 'شكرا'`, `expect #p shows "شكرا"`},
		{`expect button called "شراء" is enabled`, `js:document.querySelector('button').disabled = true`,
			`expect button called "شراء" is disabled`},
		{`expect 2 listitem`, `li{display:none}`, `expect 0 listitem`},
		{`expect textbox called "الاسم"`, `input{visibility:hidden}`, `expect no textbox`}},
	"japanese": {
		{`expect heading called "時刻表"`, `h2{opacity:0}`, `expect no heading called "時刻表"`},
		{`expect #f contains "120"`, `js:f.textContent = '合計240円'`, `expect #f contains "240"`},
		{`expect button called "購入" is enabled`, `js:document.querySelector('button').disabled = true`,
			`expect button called "購入" is disabled`},
		{`set textbox to "空"; expect textbox shows "空"`,
			`js:document.querySelector('input').addEventListener('input', (e) => { e.target.value = '' })`,
			`set textbox to "空"; expect textbox shows ""`},
		{`expect #f above button called "購入"`, `main{display:flex!important;flex-direction:column-reverse}`,
			`expect #f below button called "購入"`}},
	"sheets over sheets": {
		{`expect "In the sheet"`, `.offcanvas-body{display:none}`, `expect no "In the sheet"`},
		{`expect #behind`, `.offcanvas{height:100%!important;background:#fff}`, `expect no #behind`},
		{`expect "Told"`, `.toast{display:none!important}`, `expect no "Told"`},
		{`expect #under`, `#under{position:absolute;bottom:0}`, `expect no #under`},
		{`expect heading called "Sheet"`, `js:document.querySelector('h5').textContent = 'Sheets'`,
			`expect heading called "Sheets"`}},
	"kit": {
		{`expect "Outbound words"`, `.uk-switcher{display:none}`, `expect no "Outbound words"`},
		{`tap "BACK"; expect "Homeward words"`, `js:addEventListener('click', (e) => { if (e.target.closest('.uk-subnav')) { e.stopImmediatePropagation(); e.preventDefault() } }, true)`, `tap "BACK"; expect no "Homeward words" for 1s`},
		{`expect no "One each"`, `.uk-accordion-content{display:block!important}.uk-accordion-content[hidden]{display:block!important}`, `expect "One each"`},
		{`tap #ask; expect "It costs €3.15"`, `js:document.querySelector('#m p').textContent = 'It costs €6.30'`,
			`tap #ask; expect "It costs €6.30"`},
		{`expect "Late today"`, `js:document.querySelector('[uk-alert]').remove()`, `expect no "Late today"`}},
	"material": {
		{`expect "Sora"`, `.chip{visibility:hidden}`, `expect no "Sora"`},
		{`tap #sw; expect #sw is checked`, `js:sw.addEventListener('change', () => { sw.checked = false })`,
			`tap #sw; expect #sw is unchecked`},
		{`expect #ag is checked`, `js:ag.checked = false`, `expect #ag is unchecked`},
		{`tap "Luggage"; expect "Two bags"`, `.collapsible-body{opacity:0}`,
			`tap "Luggage"; expect no "Two bags" for 1s`},
		{`expect #nm shows "Aya"`, `js:nm.value = 'Ren'`, `expect #nm shows "Ren"`}},
	"calendar": {
		{`expect no "Later"`, `js:add('Later')`, `expect "Later"`},
		{`expect "First boat" above "Last boat"`, `.fc-list-table tbody{display:flex;flex-direction:column-reverse}`,
			`expect "First boat" below "Last boat"`},
		{`expect heading called "June 2026"`, `js:document.querySelector('.fc-toolbar-title').textContent = 'July 2026'`, `expect heading called "July 2026"`},
		{`expect "Festival"`, `js:document.querySelectorAll('tr.fc-list-event')[2].remove()`, `expect no "Festival"`},
		{`expect no "Late"`, `js:add('Late')`, `expect "Late"`}},
	"web parts": {
		{`expect "In a card"`, `ion-card{opacity:0}`, `expect no "In a card"`},
		{`expect switch called "Night" is unchecked for 1s`, `js:tg.setAttribute('checked', 'true')`,
			`expect switch called "Night" is checked`},
		{`expect checkbox called "Agree" is checked`, `js:ch.setAttribute('checked', 'false')`,
			`expect checkbox called "Agree" is unchecked`},
		{`expect button called "BUY" is enabled`, `js:buy.setAttribute('disabled', 'true')`,
			`expect button called "BUY" is disabled`},
		{`expect "Sora"`, `ion-item:first-child{display:none}`, `expect no "Sora"`}},
	"code": {
		{`expect "let fare = 3.15;"`, `.CodeMirror-code{visibility:hidden}`, `expect no "let fare = 3.15;"`},
		{`expect no "the end"`, `js:add('the end')`, `expect "the end"`},
		{`expect no "Later"`, `js:add('Later')`, `expect "Later"`},
		{`expect #p shows "Below"`, `js:p.textContent = 'Beneath'`, `expect #p shows "Beneath"`},
		{`expect no "Late"`, `js:add('Late')`, `expect "Late"`}},
	"grid": {
		{`expect "Isle 1"`, `.gridjs-tbody tr:first-child{display:none}`, `expect no "Isle 1"`},
		{`expect no "Isle 5"`, `js:add('Isle 5')`, `expect "Isle 5"`},
		{`tap button called "Page 2"; expect "Isle 5"`, `.gridjs-pages{display:none}`,
			`expect no button called "Page 2"`},
		{`expect "€4.15"`, `td:last-child{color:#fff!important}`, `expect no "€4.15"`},
		{`expect 4 /Isle \d+/`, `.gridjs-tbody tr:last-child td{opacity:0}`, `expect at most 3 /Isle [1-4]/`}},
	"bound": {
		{`tap #more; expect #n shows "2 passengers"`, `#n{color:#111}`,
			`tap #more; expect #n shows "1 passengers" for 1s`},
		{`tap #more; expect #sum shows "Total 6.30"`, `js:more.addEventListener('click', (e) => e.stopImmediatePropagation(), true)`, `tap #more; expect #sum shows "Total 3.15" for 1s`},
		{`set #nm to "Aya"; expect #hi shows "Hello Aya"`,
			`js:setInterval(() => document.querySelector('#hi')?.remove(), 10)`, `set #nm to "Aya"; expect no #hi`},
		{`expect 3 listitem`, `li:first-child{display:none}`, `expect 2 listitem`},
		{`expect no #off`, `#off{display:block!important}`, `expect #off`}},
}

// breaking is what follows a page to break it in all its five ways.
func breaking(name string) []byte {
	var b strings.Builder
	b.WriteString("<script>const add = (t) => document.body.append(Object.assign(document.createElement('div'), {textContent: t}))</script>\n")
	for _, t := range truths[name] {
		if script, ok := strings.CutPrefix(t[1], "js:"); ok {
			fmt.Fprintf(&b, "<script>addEventListener('load', () => { %s })</script>\n", script)
		} else {
			fmt.Fprintf(&b, "<style>%s</style>\n", t[1])
		}
	}
	return []byte(b.String())
}

// cases writes a suite: the lines that hold as a page comes and those that hold once it is broken, each on that page.
func cases(name string, broken bool) string {
	var b strings.Builder
	file := fileOf(name)
	if broken {
		file += "-broken"
	}
	fmt.Fprintf(&b, "suite %q\npatience 4s\n\nbefore each\n  start app fresh\n  follow link \"/%s.html\"\nend\n", name,
		file)
	for i, t := range truths[name] {
		for kind, steps := range map[string]string{"whole": t[0], "broken": t[2]} {
			fmt.Fprintf(&b, "\ncase \"%s %d\"\n  %s\nend\n", kind, i, strings.ReplaceAll(steps, "; ", "\n  "))
		}
	}
	return b.String()
}

// screens are what the corpus is tried on.
var screens = []struct {
	name, language string
	facts          fleet.Device
}{
	{"phone", "en-GB", fleet.Device{Width: 408, Height: 896, MemoryMB: 8192, Form: "phone"}},
	{"small phone", "de-DE", fleet.Device{Width: 364, Height: 792, MemoryMB: 3072, Form: "phone"}},
	{"tablet", "en-GB", fleet.Device{Width: 800, Height: 1180, MemoryMB: 8192, Form: "tablet"}},
}

// TestSuitesOfPagesThatNobodyHereWroteAreTrue runs ten cases on each page of the corpus as it comes and broken: with
// YAMATO_WITNESSES on three screens and in two languages, else two of the pages, which are light, on one. YAMATO_PAGE
// names one page.
func TestSuitesOfPagesThatNobodyHereWroteAreTrue(t *testing.T) {
	testbin.Unhurried(t)
	t.Parallel()
	all, one := os.Getenv("YAMATO_WITNESSES") != "", os.Getenv("YAMATO_PAGE")
	app := corpusApp(t)
	results := 0
	for _, s := range screens {
		if !all && s.name != "phone" {
			continue
		}
		s.facts.Name, s.facts.Site, s.facts.Kind, s.facts.Platform, s.facts.OS = "kaede-7-h1", "desk", fleet.Emulator,
			"web", "test"
		d := New(Config{Device: s.facts}, theBrowser())
		t.Cleanup(func() { require.NoError(t, d.Close()) })
		opened(t, d, app)
		require.NoError(t, d.Ready(context.Background(), driver.Terms{}))
		require.NoError(t, d.SetLanguage(context.Background(), s.language))
		for _, p := range corpus {
			if one != "" && p.name != one || one == "" && !all && p.name != "sorting" && p.name != "bound" {
				continue
			}
			results += holdTruths(t, d, p.name, s.name+", "+s.language)
		}
	}
	t.Logf("%d results", results)
}

func holdTruths(t *testing.T, d *Device, name, where string) (results int) {
	t.Helper()
	require.Contains(t, truths, name)
	for _, broken := range []bool{false, true} {
		require.NoError(t, d.Start(context.Background(), "example.eye", device.Fresh))
		for of, r := range judgeKnown(t, d, "example.eye", cases(name, broken)) {
			want := verdict.Pass
			if strings.HasPrefix(of, "broken") != broken {
				want = verdict.Fail
			}
			results++
			if r.Verdict != want {
				t.Errorf("%s (%s), broken %v: %s is %s, and should be %s: %+v %v", name, where, broken, of, r.Verdict,
					want, r.Failure, r.Err)
			}
		}
	}
	return results
}
