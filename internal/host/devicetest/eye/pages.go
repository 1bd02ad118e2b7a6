package eye

// Pages are pages of every way that was met in which what is drawn and what a document says differ.
var Pages = []Page{
	{Name: "empty body"},
	{Name: "ink on its own ground", Body: `<table><tr><td id=a role=gridcell style="border:1px solid #000;background:#fff;color:#fff">€4.15</td><td id=b style="background:#1d4e6b;color:#fff">€5.15</td></tr></table>
		<button id=c style="background:#222;color:#222">Buy</button><p id=d style="background:#fff;color:#fff">Total <b style="color:#000">3</b></p>`,
		Shown: []string{"#a", "#b", "#c", "#d", "€5.15", "Total 3"}, Gone: []string{"€4.15", "Buy"},
		Content: map[string]string{"#d": "Total 3"}},
	{Name: "what nothing between clips", Body: `<div style="height:30px;overflow:hidden">Isles<ul style="position:absolute;top:60px;left:8px;margin:0"><li id=a>Sora</li></ul></div>
		<div style="height:30px;overflow:hidden;position:relative">Quays<p id=b style="position:absolute;top:60px">Quay 4</p></div>
		<div style="height:20px;overflow:hidden"><div style="position:relative;top:150px"><div id=c style="position:absolute;top:40px">Fare</div></div></div>
		<div style="height:20px;overflow:hidden;transform:translateX(1px)"><div id=d style="position:fixed;top:90px">Held</div><div id=e style="position:absolute;top:5px">Kept</div></div>
		<div style="height:20px;overflow:hidden"><div id=f style="position:fixed;top:500px">Free</div></div>`,
		Shown: []string{"#a", "Sora", "#e", "#f", "Free"}, Gone: []string{"#b", "Quay 4", "#c", "Fare", "#d", "Held"}},
	{Name: "what lies over and under", Body: `<div style="position:relative;height:60px"><p id=a style="margin:0">Under a sheet</p><div style="position:absolute;inset:0;background:#1d4e6b"></div></div>
		<div style="position:relative;height:60px"><div style="position:absolute;inset:0;background:#1d4e6b"></div><p id=b style="margin:0">Under what came before</p></div>
		<div style="position:relative;height:60px"><div style="position:absolute;inset:0;background:#eee"></div><p id=c style="position:relative;margin:0">Over it</p></div>
		<div style="position:relative;height:60px;z-index:0"><div style="position:absolute;inset:0;background:#eee;z-index:-1"></div><p id=d style="margin:0">Over what is behind</p></div>
		<div style="height:60px"><p id=e style="margin:0;height:40px;background:#eee">Below a margin</p><div style="margin-top:-40px;height:40px;background:#1d4e6b;transform:translateX(0)"></div></div>
		<div style="position:relative;height:60px"><p id=f style="margin:0">Below nothing</p><div style="position:absolute;inset:0"></div></div>
		<div style="display:flex;height:60px"><p id=g style="margin:0 -200px 0 0;width:200px;z-index:1">In front in a row</p><div style="background:#eee;width:200px"></div></div>
		<div style="display:flex;height:60px"><div style="margin:0 -200px 0 0;width:200px;z-index:1;background:#1d4e6b"></div><p id=h style="margin:0;width:200px">Behind in a row</p></div>
		<div style="height:20px;overflow:hidden;position:relative"><div style="position:absolute;top:0;height:300px;width:200px;background:#1d4e6b"></div></div><p id=i style="margin:0">Beside what is cut off</p>`,
		Shown: []string{"#c", "#d", "#f", "#g", "#i"}, Gone: []string{"#a", "#b", "#e", "#h"}},
	{Name: "what is last once others have gone", Body: `<style>#l li:last-child{opacity:0}#l li:first-child{display:none}</style><ul id=l style="list-style:none"><li id=z>Zero</li><li id=a>One</li><li id=b>Two</li><li id=c>Three</li><li id=d>Four</li></ul>
		<script>setTimeout(() => { l.lastElementChild.remove(); l.firstElementChild.remove() }, 100)</script>`,
		Shown: []string{"#b", "Two"}, Gone: []string{"#a", "#c", "#d", "Three"}},
	{Name: "ink as a style writes it", Body: `<p id=a style="color:rgb(0 0 0 / 0)">Clear</p><p id=b style="color:hsl(0 0% 0% / 0%)">Clearer</p><p id=c>Ink</p>`,
		Shown: []string{"#c", "Ink"}, Gone: []string{"Clear", "Clearer"}},
	{Name: "rules that change by themselves", Body: `<style>#a{color:#000}#b{margin:0}</style><p id=a>Faint later</p><p id=b>Here for now</p><p id=c>0</p><script>setTimeout(() => { const r = document.styleSheets[0].cssRules; r[0].style.opacity = 0; r[1].style.textIndent = '-9999px'; c.className = 'x'; c.textContent = '1' }, 100)</script>`,
		Shown: []string{"#c"}, Gone: []string{"#a", "Here for now"}},
	{Name: "nothing but boxes", Body: `<div style="height:100px;background:#1d4e6b"></div><div></div>`},
	{Name: "see-through", Body: `<p id=a style="opacity:0">Faint</p><div style="opacity:.05"><p id=b>Fainter</p></div>
		<p id=c style="filter:opacity(0)">Filtered</p><div style="opacity:.3"><div style="opacity:.2"><p id=e>Twice</p></div></div><p id=d style="opacity:.6">Half</p>`,
		Shown: []string{"#d", "Half"}, Gone: []string{"#a", "#b", "#c", "#e", "Faint", "Fainter"}},
	{Name: "clipped away", Body: `<p id=a style="clip-path:inset(50%)">Inset</p><p id=b style="clip-path:circle(0)">Circle</p>
		<p id=c style="position:absolute;clip:rect(0,0,0,0)">Rect</p><p id=d style="clip-path:polygon(0 0,0 0,0 0)">Polygon</p>
		<div style="clip-path:inset(100%)"><p id=e>Inner</p></div><p id=f style="clip-path:inset(0 10% 0 0)">Part</p>`,
		Shown: []string{"#f"}, Gone: []string{"#a", "#b", "#c", "#d", "#e"}},
	{Name: "one pixel", Body: `<button id=a><span style="position:absolute;width:1px;height:1px;overflow:hidden;clip:rect(0 0 0 0);white-space:nowrap">Close</span><span aria-hidden=true>×</span></button>
		<p style="position:absolute;width:1px;height:1px;overflow:hidden;margin:-1px" id=b>For ears</p><hr id=c style="height:1px;border:0;background:#000">`,
		Shown: []string{"#a", "#c", "Close"}, Gone: []string{"#b", "For ears"}, Content: map[string]string{"#a": "×"}},
	{Name: "content visibility and details", Body: `<div style="content-visibility:hidden"><p id=a>Held back</p></div><details id=b><summary>More</summary><p id=c>Closed</p></details>
		<details open><summary>Less</summary><p id=d>Open</p></details>`,
		Shown: []string{"More", "#d", "Less"}, Gone: []string{"#a", "#c", "Closed"}},
	{Name: "the colour of its ground", Body: `<p id=a style="color:#fff">White on white</p><div style="background:#123456"><p id=b style="color:#123456">Blue on blue</p><p id=c style="color:#fff">White on blue</p></div>
		<p id=d style="color:transparent">Transparent</p><p id=e style="color:transparent;background:linear-gradient(red,blue);-webkit-background-clip:text">Gradient</p>
		<div style="position:relative;height:40px"><div style="position:absolute;inset:0;background:#000"></div><p id=f style="position:absolute;color:#fff;margin:0">White over black</p></div>
		<p id=g style="font-size:0">No size</p><p id=h style="text-indent:-9999px;width:90px">Far off</p>`,
		Shown: []string{"#c", "#e", "#f"}, Gone: []string{"#a", "#b", "#d", "White on white", "No size", "Far off"}},
	{Name: "kept from assistive technology", Body: `<p id=a aria-hidden=true>Only for eyes</p><div aria-hidden=true><button id=b>Press</button></div><i aria-hidden=true>&#xE8B6;</i><p>Beside</p>`,
		Shown: []string{"#a", "Only for eyes", "#b", "Press", "Beside"}, Role: map[string]string{"#b": "button"}},
	{Name: "words in drawings", Body: `<svg width=200 height=60 viewBox="0 0 200 60"><g><text x=10 y=20>January</text><text id=v x=10 y=40>12 <tspan>boats</tspan></text><text x=10 y=55 visibility=hidden>Unseen</text></g><rect width=20 height=20 /></svg>
		<svg id=icon width=20 height=20 role=img aria-label="Ferry"><path d="M0 0h10v10z"/></svg>`,
		Shown: []string{"January", "#v", "#icon", "Ferry"}, Gone: []string{"Unseen"},
		Content: map[string]string{"#v": "12 boats"}},
	{Name: "words out of a style", Body: `<style>.new::before{content:"New"}.eur::before{content:"€"}.pct::after{content:"%"}.req::after{content:" *"}.tip::after{content:attr(data-tip);}
		ol.own{counter-reset:part;list-style:none;padding:0}ol.own li{counter-increment:part}ol.own li::before{content:"Step " counter(part) ": "}.q::before{content:"→"}.gone::before{content:"Hidden";display:none}.neg::before{content:"-"}</style>
		<span id=a class=new></span><p id=b class=eur>5</p><p id=c class=pct>50</p><label id=d class=req>Name</label><p id=e class=tip data-tip=" (old)">Tip</p>
		<ol class=own><li id=f>First</li><li id=g>Second</li></ol><p id=h class=q>Next</p><p id=i class=gone>Here</p><p id=j class=neg>5</p>`,
		Shown: []string{"New", "€5", "First", "Second"},
		Content: map[string]string{"#a": "New", "#b": "€5", "#c": "50%", "#d": "Name", "#e": "Tip (old)",
			"#f": "Step 1: First", "#g": "Step 2: Second", "#h": "Next", "#i": "Here", "#j": "-5"}},
	{Name: "figures before a list's items", Body: `<ol id=l start=3><li id=a>Sora</li><li id=b>Minami</li></ol><ol type=a><li>Tobi</li></ol><ul><li id=c>Haruka</li></ul><ol style="list-style:none"><li>None</li></ol>`,
		Shown: []string{"3.", "4.", "a."}, Gone: []string{"1.", "•"}, Content: map[string]string{"#a": "Sora",
			"#c": "Haruka"}},
	{Name: "an element's text is the text in it", Body: `<p id=sum>Total <a id=in href="#">3</a> pieces</p><p id=b>From <b role=status>Sora</b> to <em id=x>Tobi</em></p><div id=c>Own <div>block</div></div>
		<li id=d>Milk <button>Delete</button></li><p id=e style="display:flex;gap:4px">Fare <span id=fare>€5</span></p>`,
		Shown: []string{"Total 3 pieces", "#in", "3", "#x", "Sora", "Milk", "Delete"},
		Content: map[string]string{"#sum": "Total 3 pieces", "#in": "3", "#b": "From Sora to Tobi", "#c": "Own",
			"#d": "Milk Delete", "#e": "Fare €5"}},
	{Name: "text as it is drawn", Body: `<p id=a style="text-transform:uppercase">Straße</p><p id=b style="text-transform:capitalize">two words</p><p id=c>Fahr&shy;plan&shy;aus&shy;kunft</p><pre id=d>one
two</pre><p id=e>a<br>b</p><p id=f>half <span style="visibility:hidden">hidden</span> <span style="display:none">none</span>seen</p><p id=g>Icon &#xF015; here</p><p id=h style="-webkit-text-security:disc">4711</p>`,
		Content: map[string]string{"#a": "STRASSE", "#b": "Two Words", "#c": "Fahrplanauskunft", "#d": "one two",
			"#e": "a b", "#f": "half seen", "#g": "Icon here", "#h": "••••"}},
	{Name: "parts of what acts as one", Body: `<div role=option id=o tabindex=0><div><span id=n>Sora</span></div><div>€6.30</div></div><button id=b><span>Ferry</span> <span style="display:block">09:40</span></button><div role=checkbox id=c aria-checked=false tabindex=0>Agree</div>
		<div role=tab id=t><div>News</div><div class=badge>3</div></div>`,
		Shown:   []string{"#n", "Sora", "€6.30", "Ferry 09:40", "09:40", "Agree", "3"},
		Content: map[string]string{"#b": "Ferry 09:40", "#o": "Sora €6.30"}},
	{Name: "slots", Body: `<x-card>Slotted words<b slot=head>Head</b></x-card><script>customElements.define('x-card', class extends HTMLElement { constructor() { super(); this.attachShadow({mode:'open'}).innerHTML = '<h3><slot name=head></slot></h3><p id="in">Said: <slot></slot></p>' } })</script>`,
		Shown: []string{"Head", "Said: Slotted words"}, Content: map[string]string{"#in": "Said: Slotted words"}},
	{Name: "drawn by others", Body: `<style>.sw input{opacity:0;width:0;height:0;position:absolute}.sw span{display:inline-block;width:50px;height:26px;background:#999;border-radius:13px}.sw input:checked+span{background:#06c}
		.off{position:absolute;left:-9999px}.box{display:inline-block;width:20px;height:20px;border:2px solid #333}.none{display:none}</style>
		<label class=sw id=l1><input type=checkbox id=a><span></span></label><p><input class=off type=checkbox id=b><label for=b><span class=box></span> Accept</label></p>
		<p><input class=none type=radio name=r id=c><label for=c>First class</label></p><p><label><input type=file id=d style="opacity:0;position:absolute;width:1px;height:1px"><span style="background:#eee;padding:8px">Choose a file</span></label></p>
		<p style="position:relative;width:60px;height:30px;background:#cdf"><input type=checkbox id=e style="opacity:0;position:absolute;inset:0;width:100%;height:100%;margin:0"></p>
		<input type=checkbox id=f style="opacity:0">`,
		Shown: []string{"#a", "#b", "#c", "#d", "#e"}, Gone: []string{"#f"}, Role: map[string]string{"#a": "checkbox",
			"#c": "radio"}},
	{Name: "roles as they are stated", Body: `<div role=alertdialog id=a>Sure?</div><div role=menuitemcheckbox id=b aria-checked=true>Grid</div><div role=treegrid id=c><div role=row><div role=gridcell>x</div></div></div><div role=feed id=d><article>One</article></div>
		<p role=paragraph id=e>Words</p><span role=math id=f>x+1</span><div role=blockquote id=g>Quote</div><div role="none" id=h>Nothing</div>`,
		Role: map[string]string{"#a": "alertdialog", "#b": "menuitemcheckbox", "#c": "treegrid", "#d": "feed",
			"#e": "paragraph", "#f": "math", "#g": "blockquote", "#h": ""}},
	{Name: "what the pointer reaches through", Body: `<div style="background:#fff;height:880px"><button id=under>Under</button><p id=covered style="position:absolute;bottom:50px">Covered</p></div><div style="position:fixed;inset:0;pointer-events:none"><div id=sheet role=dialog aria-label=Sheet style="position:absolute;bottom:0;width:100%;height:200px;background:#eee;pointer-events:none"><button id=ok style="pointer-events:auto">OK</button></div></div>`,
		Shown: []string{"#sheet", "#ok", "#under"}, Gone: []string{"#covered"}},
	{Name: "lists of several", Body: `<select id=m multiple size=4><optgroup label="North"><option>Sora</option><option selected>Tobi</option></optgroup><option disabled>Haruka</option></select>`,
		Shown: []string{"#m", "Sora", "Tobi"}, Role: map[string]string{"#m": "listbox"}},
	{Name: "a canvas that tells", Body: `<canvas id=a width=100 height=50 aria-label="Tide: 2.1 m"></canvas><canvas id=b width=100 height=50>High water 09:40</canvas>`,
		Shown: []string{"Tide: 2.1 m", "High water 09:40"}},
	{Name: "frames of its own", Body: `<iframe id=f srcdoc="<p id=inner>In the frame</p>" width=300 height=80></iframe><object id=o type="text/html" data="empty-body.html" width=50 height=30></object>`,
		Shown: []string{"In the frame", "#inner"}},
}
