package handset

import (
	"bytes"
	"io/fs"
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"yamato/internal/host/driver"
)

// corpus are galleries of component libraries from the npm registry, which nobody here wrote: shadow roots, drawings,
// canvases, maps, editors, virtual lists, pickers, dialogs, drags. They are tried, and not shipped. A page is what
// stands in its body; lib are the files of packages that it needs.
var corpus = []struct {
	name, lib, body string
}{
	{"bootstrap", "bootstrap/dist/css/bootstrap.min.css bootstrap/dist/js/bootstrap.bundle.min.js", `<nav class="navbar navbar-expand bg-dark" data-bs-theme=dark><div class=container-fluid><a class=navbar-brand href="#">Ferries</a><ul class=navbar-nav><li class=nav-item><a class="nav-link active" href="#">Timetable</a></li><li class=nav-item><a class="nav-link disabled">Wallet</a></li></ul></div></nav>
<div class="container mt-2"><div class="alert alert-warning alert-dismissible fade show" role=alert>Late today<button class=btn-close data-bs-dismiss=alert aria-label=Close></button></div>
<div class="form-check form-switch"><input class=form-check-input type=checkbox role=switch id=sw><label class=form-check-label for=sw>Night</label></div><div class=form-floating><input class=form-control id=fl placeholder=Name><label for=fl>Name</label></div>
<div class=btn-group role=group><input type=radio class=btn-check name=r id=r1 checked><label class="btn btn-outline-primary" for=r1>One way</label><input type=radio class=btn-check name=r id=r2><label class="btn btn-outline-primary" for=r2>Return</label></div>
<p><span class="badge text-bg-secondary">New</span> <span class=visually-hidden>unread messages</span> <span class="spinner-border spinner-border-sm" style="animation:none"></span></p>
<div class=progress role=progressbar aria-valuenow=25><div class=progress-bar style="width:25%">25%</div></div>
<div class=accordion id=ac><div class=accordion-item><h2 class=accordion-header><button class="accordion-button collapsed" data-bs-toggle=collapse data-bs-target="#c1">Luggage</button></h2><div id=c1 class="accordion-collapse collapse"><div class=accordion-body>Two bags</div></div></div></div>
<ol class="list-group list-group-numbered"><li class=list-group-item>Sora</li><li class=list-group-item>Tobi</li></ol><button class="btn btn-primary" data-bs-toggle=modal data-bs-target="#m" id=ask>Ask</button></div>
<div class="modal" id=m tabindex=-1><div class=modal-dialog><div class=modal-content><div class=modal-header><h5 class=modal-title>Sure?</h5></div><div class=modal-body>It costs €3.15</div></div></div></div>`},
	{"shoelace", "@shoelace-style/shoelace/cdn", `<script type=module src="lib/@shoelace-style/shoelace/cdn/shoelace.js"></script><link rel=stylesheet href="lib/@shoelace-style/shoelace/cdn/themes/light.css">
<sl-button id=b variant=primary>Buy</sl-button> <sl-switch id=s>Night</sl-switch> <sl-checkbox id=c checked>Agree</sl-checkbox><sl-input id=i label=Name value=Aya></sl-input><sl-radio-group label=Class value=1 id=rg><sl-radio value=1>First</sl-radio><sl-radio value=2>Second</sl-radio></sl-radio-group>
<sl-tab-group><sl-tab slot=nav panel=a>Go</sl-tab><sl-tab slot=nav panel=b>Back</sl-tab><sl-tab-panel name=a>Outbound</sl-tab-panel><sl-tab-panel name=b>Homeward</sl-tab-panel></sl-tab-group><sl-badge>4</sl-badge><sl-tag>Sora</sl-tag><sl-details summary=More>Hidden words</sl-details><sl-rating value=3></sl-rating>
<sl-select label=Island value=s id=se><sl-option value=s>Sora</sl-option><sl-option value=t>Tobi</sl-option></sl-select><sl-range label=Volume value=30></sl-range><sl-progress-bar value=50>50%</sl-progress-bar><sl-card><strong slot=header>Card</strong>In a card</sl-card><sl-breadcrumb><sl-breadcrumb-item>Home</sl-breadcrumb-item><sl-breadcrumb-item>Tickets</sl-breadcrumb-item></sl-breadcrumb>`},
	{"chart", "chart.js/dist/chart.umd.js", `<h1>Passengers</h1><canvas id=c width=360 height=200 aria-label="Passengers by month" role=img></canvas><script>new Chart(c, {type: 'bar', data: {labels: ['Jan', 'Feb'], datasets: [{label: 'Sora', data: [3, 5]}]}, options: {animation: false, responsive: false}})</script><p id=p>Five at most</p>`},
	{"drawings", "d3/dist/d3.js", `<svg id=s width=380 height=240></svg><p id=p>Below</p><script>const s = d3.select('#s'), x = d3.scaleBand(['Sora', 'Tobi', 'Haruka'], [40, 360]), y = d3.scaleLinear([0, 100], [210, 10]);
s.append('g').attr('transform', 'translate(0,210)').call(d3.axisBottom(x)); s.append('g').attr('transform', 'translate(40,0)').call(d3.axisLeft(y));
s.selectAll('rect.bar').data([30, 80, 55]).join('rect').attr('class', 'bar').attr('id', (d, i) => 'bar' + i).attr('x', (d, i) => x(x.domain()[i]) + 10).attr('width', 60).attr('y', y).attr('height', (d) => 210 - y(d)).attr('fill', '#1d4e6b');
s.selectAll('text.v').data([30, 80, 55]).join('text').attr('class', 'v').attr('x', (d, i) => x(x.domain()[i]) + 30).attr('y', (d) => y(d) - 4).text(String); s.append('g').attr('opacity', 0).append('text').attr('x', 200).attr('y', 100).text('Unseen')</script>`},
	{"map", "leaflet/dist/leaflet.js leaflet/dist/leaflet.css leaflet/dist/images",
		`<div id=m style="height:300px"></div><script>const m = L.map('m', {zoomAnimation: false, fadeAnimation: false}).setView([38.7, -9.1], 12); L.marker([38.7, -9.1]).addTo(m).bindPopup('Quay <b>3</b>').openPopup(); L.circle([38.71, -9.12], {radius: 900}).addTo(m); L.control.scale().addTo(m)</script><p id=p>Where</p>`},
	{"editor", "quill/dist/quill.js quill/dist/quill.snow.css",
		`<div id=e><h2>Crossing</h2><p>From <strong>Sora</strong> to <em>Tobi</em></p><ol><li>first</li><li>second</li></ol></div><script>new Quill('#e', {theme: 'snow'})</script>`},
	{"dates", "flatpickr/dist/flatpickr.js flatpickr/dist/flatpickr.css",
		`<input id=d aria-label=Day value="2026-05-31"><script>flatpickr('#d', {inline: true, disableMobile: true})</script>`},
	{"choices", "choices.js/public/assets/scripts/choices.js choices.js/public/assets/styles/choices.css",
		`<select id=c multiple><option selected>Sora</option><option>Tobi</option><option selected>Haruka</option></select><select id=o><option>One</option><option>Two</option></select><script>new Choices('#c', {removeItemButton: true}); new Choices('#o')</script>`},
	{"tom", "tom-select/dist/js/tom-select.complete.js tom-select/dist/css/tom-select.css",
		`<select id=t><option value=1>Sora</option><option value=2>Tobi</option></select><script>new TomSelect('#t', {}); </script><p id=p>After</p>`},
	{"table", "tabulator-tables/dist/js/tabulator.js tabulator-tables/dist/css/tabulator.css",
		`<div id=t></div><script>new Tabulator('#t', {height: 300, data: Array.from({length: 2000}, (_, i) => ({id: i, from: 'Sora', to: ['Tobi', 'Haruka'][i % 2], fare: 3.15 + i})), columns: [{title: 'No.', field: 'id', width: 60}, {title: 'From', field: 'from'}, {title: 'To', field: 'to'}, {title: 'Fare', field: 'fare'}]})</script>`},
	{"swipe", "swiper/swiper-bundle.js swiper/swiper-bundle.css",
		`<div class=swiper style="height:200px"><div class=swiper-wrapper><div class=swiper-slide><h2>Sora</h2></div><div class=swiper-slide><h2>Tobi</h2></div><div class=swiper-slide><h2>Haruka</h2></div></div><div class=swiper-pagination></div><div class=swiper-button-next></div></div><script>new Swiper('.swiper', {pagination: {el: '.swiper-pagination'}, navigation: {nextEl: '.swiper-button-next'}})</script>`},
	{"sliders", "nouislider/dist/nouislider.js nouislider/dist/nouislider.css",
		`<div id=s style="margin:60px 40px"></div><script>noUiSlider.create(s, {start: [20, 80], connect: true, tooltips: true, range: {min: 0, max: 100}, pips: {mode: 'steps', density: 25}})</script>`},
	{"plain forms", "@picocss/pico/css/pico.min.css", `<link rel=stylesheet href="lib/@picocss/pico/css/pico.min.css"><main class=container><hgroup><h2>Tickets</h2><p>Two ways</p></hgroup><form><fieldset><label>From <input name=f value=Sora></label><label><input type=checkbox role=switch id=sw> Night</label><label><input type=checkbox id=ch checked> Agree</label></fieldset>
<label>Seat <select id=se><option>Window</option></select></label><input type=range id=rg><input type=submit value=Buy></form><details open><summary>More</summary><p>Open words</p></details><details><summary>Less</summary><p>Closed words</p></details><progress value=3 max=9></progress><article><header>Head</header>Body</article><table><tr><th>Sora<td>3.15</table></main>`},
	{"columns", "bulma/css/bulma.min.css", `<link rel=stylesheet href="lib/bulma/css/bulma.min.css"><section class=section><h1 class=title>Sorane Line</h1><div class=tabs><ul><li class=is-active><a>Now</a></li><li><a>Later</a></li></ul></div><div class=tags><span class="tag is-info">3</span><span class=tag>boats<button class="delete is-small"></button></span></div><div class=notification>Words<button class=delete></button></div><div class="dropdown"><div class=dropdown-trigger><button class=button>Open</button></div><div class=dropdown-menu><div class=dropdown-content><a class=dropdown-item>Hidden item</a></div></div></div><label class=checkbox><input type=checkbox> Agree</label></section>`},
	{"formulas", "katex/dist/katex.js katex/dist/katex.css katex/dist/fonts",
		`<p id=f></p><p id=p>Above</p><script>katex.render('c = \\pm\\sqrt{a^2 + b^2}', f)</script>`},
	{"sorting", "sortablejs/Sortable.js", `<ul id=l><li>Sora<li>Tobi<li>Haruka</ul><script>new Sortable(l, {animation: 0})</script>`},
	{"right to left", "bootstrap/dist/css/bootstrap.rtl.min.css",
		`<script>document.documentElement.dir = 'rtl'; document.documentElement.lang = 'ar'</script><link rel=stylesheet href="lib/bootstrap/dist/css/bootstrap.rtl.min.css"><div class=container><h1>جدول المواعيد</h1><button class="btn btn-primary">شراء</button><p id=p>المجموع ٣٫١٥</p><input class=form-control aria-label="الاسم"><ul><li>سورا<li>توبي</ul></div>`},
	{"japanese", "@picocss/pico/css/pico.min.css", `<link rel=stylesheet href="lib/@picocss/pico/css/pico.min.css"><main class=container lang=ja><h2>時刻表</h2><p id=f>合計120円</p><button>購入</button><ruby>空<rt>そら</rt></ruby><label>名前 <input></label></main>`},
	{"sheets over sheets", "bootstrap/dist/css/bootstrap.min.css bootstrap/dist/js/bootstrap.bundle.min.js",
		`<p id=behind>Behind</p><button id=under>Under</button><div class="offcanvas offcanvas-bottom" id=o style="height:50%"><div class=offcanvas-header><h5>Sheet</h5></div><div class=offcanvas-body>In the sheet</div></div><div class="toast-container position-fixed top-0 end-0"><div class="toast show" role=status><div class=toast-body>Told</div></div></div><script>addEventListener('load', () => new bootstrap.Offcanvas('#o', {backdrop: false}).show())</script>`},
	{"kit", "uikit/dist/css/uikit.min.css uikit/dist/js/uikit.min.js", `<div class="uk-container uk-padding-small"><h1 class=uk-heading-small>Quay</h1><ul class=uk-subnav uk-switcher><li><a href="#">Go</a></li><li><a href="#">Back</a></li></ul><ul class=uk-switcher><li>Outbound words</li><li>Homeward words</li></ul>
<ul uk-accordion><li class=uk-open><a class=uk-accordion-title href>Luggage</a><div class=uk-accordion-content>Two bags</div></li><li><a class=uk-accordion-title href>Bicycles</a><div class=uk-accordion-content>One each</div></li></ul>
<span class=uk-label>New</span> <span class=uk-badge>7</span><div class=uk-alert-warning uk-alert><a href class=uk-alert-close uk-close></a><p>Late today</p></div><button class="uk-button uk-button-primary" uk-toggle="target: #m" id=ask>Ask</button><progress class=uk-progress value=30 max=100></progress></div><div id=m uk-modal><div class="uk-modal-dialog uk-modal-body"><h2 class=uk-modal-title>Sure?</h2><p>It costs €3.15</p></div></div>`},
	{"material", "materialize-css/dist/css/materialize.min.css materialize-css/dist/js/materialize.min.js", `<nav><div class=nav-wrapper><a href="#" class=brand-logo>Ferries</a></div></nav><div class=container><div class="chip">Sora</div><div class="switch"><label>Day<input type=checkbox id=sw><span class=lever></span>Night</label></div><p><label><input type=checkbox id=ag checked><span>Agree</span></label></p><p><label><input name=c type=radio id=first checked><span>First</span></label></p>
<div class=input-field><input id=nm type=text value=Aya><label for=nm class=active>Name</label></div><ul class=collapsible><li><div class=collapsible-header>Luggage</div><div class=collapsible-body><span>Two bags</span></div></li></ul><a class="btn modal-trigger" href="#mo">Ask</a><span class="new badge">4</span></div><div id=mo class=modal><div class=modal-content><h4>Sure?</h4><p>It costs €3.15</p></div></div><script>addEventListener('load', () => M.AutoInit())</script>`},
	{"calendar", "fullcalendar/index.global.min.js", `<div id=cal style="font-size:11px"></div><script>new FullCalendar.Calendar(document.getElementById('cal'), {initialView: 'listMonth', initialDate: '2026-06-01', height: 420, headerToolbar: {left: 'prev,next', center: 'title', right: 'listMonth,dayGridMonth'}, events: [{title: 'First boat', start: '2026-06-03T07:00:00'}, {title: 'Last boat', start: '2026-06-03T22:30:00'}, {title: 'Festival', start: '2026-06-20'}]}).render()</script>`},
	{"web parts", "@ionic/core/css/ionic.bundle.css @ionic/core/dist/ionic",
		`<script type=module src="lib/@ionic/core/dist/ionic/ionic.esm.js"></script><ion-app><ion-header><ion-toolbar><ion-title>Ferries</ion-title></ion-toolbar></ion-header><ion-content class=ion-padding><ion-list><ion-item><ion-label>Sora</ion-label><ion-badge slot=end>3</ion-badge></ion-item><ion-item><ion-toggle id=tg>Night</ion-toggle></ion-item><ion-item><ion-checkbox id=ch checked=true>Agree</ion-checkbox></ion-item><ion-item><ion-input id=nm label=Name value=Aya></ion-input></ion-item></ion-list><ion-segment value=a><ion-segment-button value=a><ion-label>Go</ion-label></ion-segment-button><ion-segment-button value=b><ion-label>Back</ion-label></ion-segment-button></ion-segment><ion-button id=buy>Buy</ion-button><ion-card><ion-card-content>In a card</ion-card-content></ion-card></ion-content></ion-app>`},
	{"code", "codemirror/lib/codemirror.js codemirror/lib/codemirror.css",
		`<div id=e></div><script>CodeMirror(document.getElementById('e'), {value: 'let fare = 3.15;\nlet seats = 2;\n' + '// more\n'.repeat(400) + 'the end', lineNumbers: true}).setSize(null, 300)</script><p id=p>Below</p>`},
	{"grid", "gridjs/dist/gridjs.umd.js gridjs/dist/theme/mermaid.min.css",
		`<div id=g></div><script>new gridjs.Grid({columns: ['From', 'Fare'], sort: true, search: true, pagination: {limit: 4}, data: Array.from({length: 12}, (_, i) => ['Isle ' + (i + 1), '€' + (3 + i) + '.15'])}).render(document.getElementById('g'))</script>`},
	{"bound", "vue/dist/vue.global.prod.js", `<div id=app><h1>{{ title }}</h1><button id=more @click="n++">More</button><p id=n>{{ n }} passengers</p><p id=sum>Total {{ (n * 3.15).toFixed(2) }}</p><label>Name <input id=nm v-model=name></label><p id=hi v-if=name>Hello {{ name }}</p><ul><li v-for="i in isles" :key=i>{{ i }}</li></ul><p id=off v-show=false>Not yet</p></div><script>Vue.createApp({data: () => ({title: 'Crossing', n: 1, name: '', isles: ['Sora', 'Tobi', 'Haruka']})}).mount('#app')</script>`},
}

// corpusApp bundles the corpus, a page each.
func corpusApp(t *testing.T) driver.App {
	t.Helper()
	files := fstest.MapFS{"manifest.webmanifest": {Data: []byte(`{"name": "Eye", "id": "example.eye", "start_url": "/", "version": "1.0+1"}`)},
		"index.html": {Data: []byte("<!doctype html><p>Begin")}}
	root := os.DirFS(modules)
	for _, p := range corpus {
		var head strings.Builder
		for _, lib := range strings.Fields(p.lib) {
			require.NoError(t, fs.WalkDir(root, lib, func(name string, e fs.DirEntry, err error) error {
				if err != nil || e.IsDir() || strings.HasSuffix(name, ".map") {
					return err
				}
				data, err := fs.ReadFile(root, name)
				files["lib/"+name] = &fstest.MapFile{Data: data}
				return err
			}))
			if strings.HasSuffix(lib, ".js") {
				head.WriteString(`<script src="lib/` + lib + `"></script>`)
			} else if strings.HasSuffix(lib, ".css") {
				head.WriteString(`<link rel=stylesheet href="lib/` + lib + `">`)
			}
		}
		files[fileOf(p.name)+".html"] = &fstest.MapFile{Data: []byte(`<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>` +
			p.name + `</title>` + head.String() + `<body>` + p.body)}
		files[fileOf(p.name)+"-broken.html"] = &fstest.MapFile{Data: append(bytes.Clone(files[fileOf(p.name)+
			".html"].Data), breaking(p.name)...)}
	}
	return bundled(t, files)
}

func fileOf(name string) string { return strings.ReplaceAll(name, " ", "-") }
