package demo

import (
	"strings"

	"ivytable.example/ivytable/internal/core/mailaddr"
)

var (
	localities  = []string{"Gannet Quay", "Sandwick Pier", "North Ness", "Tern Island", "Eider Point"}
	departments = []string{"Deck", "Engine", "Terminals", "Ticket Office", "Dispatch", "Deck", "Engine", "Terminals", "Deck", "Workshop", "Office"}
	titles      = map[string]string{"Deck": "Deckhand", "Engine": "Engineer", "Terminals": "Terminal attendant", "Ticket Office": "Ticket clerk",
		"Dispatch": "Dispatcher", "Workshop": "Fitter", "Office": "Clerk", "Safety": "Safety officer"}
	firstNames = []string{"Aile", "Bram", "Corrie", "Dagny", "Edda", "Finlo", "Greet", "Hanno", "Idony", "Jory", "Kerensa", "Lowen", "Merryn", "Nessa", "Orla", "Piran",
		"Quill", "Runa", "Senan", "Tamsin", "Ulla", "Vesper", "Wenna", "Ysolde", "Zennor", "Anders", "Brisa", "Colm", "Demelza", "Eilidh", "Fenna", "Gorran", "Hedda", "Ivo", "Jonty"}
	familyNames = []string{"Alder", "Brack", "Cawdor", "Drift", "Ebbing", "Fairlead", "Gale", "Haven", "Inlet", "Jetty", "Keel", "Lannock", "Marram", "Neap", "Oarsman",
		"Pintle", "Quarrel", "Reef", "Saltmarsh", "Thwaite", "Undertow", "Vane", "Wrack", "Yarrow", "Zander", "Sørby", "Größ", "Pénard", "Tidewell", "Stør", "Holm"}

	// named are people who have a part in the story: name, department, workspace role.
	named = [][3]string{
		{"Ines Skerry", "Office", "administrator"}, {"Oda Fenn", "Dispatch", ""}, {"Bram Tolley", "Dispatch", ""}, {"Tove Alder", "Dispatch", ""},
		{"Signe Holm", "Safety", "auditor"}, {"Magnus Reef", "Safety", ""}, {"Hale Corran", "Office", ""}, {"Petra Vane", "Ticket Office", ""},
		{"Jonas Keel", "Deck", ""}, {"Mira Stør", "Engine", ""}, {"Rurik Gale", "Workshop", ""}, {"Elin Marram", "Terminals", ""},
		{"Groups Desk", "Office", ""},
	}
)

// plan is one group of the sample: made and, where they are not zero, renewed and
// retired so many days back.
type plan struct {
	name, local, from string
	people            int
	made              int
	renewed, retired  int
	set               string // policy, NAME=VALUE words
	why               string
	owners, extra     []string
	exempt            string
}

func (g plan) address() string {
	if strings.Contains(g.local, "@") {
		return g.local
	}
	local := g.local
	if local == "" {
		local, _ = mailaddr.Derive(g.name) // every name here derives
	}
	return local + "@" + mainDomain
}

// What several groups are set to.
const (
	announce  = "privacy=workspace post=moderators join.how=freely"
	intake    = "post=anyone hold=outsiders externals=barred"
	wideOpen  = "post=anyone hold=nobody suspicious=deliver"
	open      = "privacy=workspace join.how=freely post=workspace"
	secret    = "find=members see_people=members read=members join.audience=nobody write_owners=members"
	liaison   = "externals=owners"
	onTheWeb  = "find=anyone write_owners=anyone"
	colleague = "post=workspace"
)

var groups = []plan{
	{name: "Night Dispatch", from: "Dispatch", people: 11, made: 200, renewed: 95, set: colleague, why: "Calls and handovers of the night shift in the dispatch room.",
		owners: []string{Owner, "bram.tolley@merrowline.example"}, extra: []string{Member}},
	{name: "Day Dispatch", from: "Dispatch", people: 12, made: 200, renewed: 60, set: colleague, why: "Handovers of the day shift.", owners: []string{Owner}, extra: []string{Member + "=moderator"}},
	{name: "All Staff", from: "", people: 180, made: 255, set: announce, why: "Announcements for everyone at Merrow Line.", owners: []string{"hale.corran@merrowline.example"}, exempt: "Everyone has to be reachable"},
	{name: "Lost Property", from: "Ticket Office", people: 5, made: 150, set: intake + " " + onTheWeb, why: "What passengers left aboard; they write here.", owners: []string{"petra.vane@merrowline.example"}},
	{name: "Passenger Questions", local: "questions", from: "Ticket Office", people: 8, made: 149, set: intake + " " + onTheWeb, why: "Questions from the web page.", owners: []string{"petra.vane@merrowline.example"}},
	{name: "Bookings", from: "Ticket Office", people: 9, made: 148, set: wideOpen, why: "Group bookings by mail."},
	{name: "Ticket Office", from: "Ticket Office", people: 18, made: 147, set: colleague, owners: []string{"petra.vane@merrowline.example"}},
	{name: "Safety Board", from: "Safety+Office", people: 4, made: 250, set: secret, why: "Minutes and findings, confidential.", owners: []string{"magnus.reef@merrowline.example"}, extra: []string{"signe.holm@merrowline.example"}, exempt: "Required by the harbour authority"},
	{name: "Safety Reports", from: "Safety", people: 1, made: 178, renewed: 100, set: open + " post=workspace", why: "Near misses, told without blame.", owners: []string{"magnus.reef@merrowline.example"}},
	{name: "Works Council", from: "Deck+Terminals", people: 7, made: 176, renewed: 90, set: secret, why: "The elected council of the staff."},
	{name: "Harbour Liaison", from: "Office+Dispatch", people: 4, made: 140, set: liaison + " privacy=workspace find=anyone join.audience=anyone", why: "With ports and fuel suppliers.", owners: []string{"hale.corran@merrowline.example"},
		extra: []string{"master@gannetport.example", "pilots@gannetport.example", "bunkering@tidefuel.example", "duty@northness-harbour.example"}},
	{name: "Fuel Orders", from: "Engine+Office", people: 5, made: 139, set: liaison, extra: []string{"orders@tidefuel.example"}},
	{name: "Deck Crew", local: "deck@" + crewDomain, from: "Deck", people: 55, made: 135, set: colleague, owners: []string{"jonas.keel@crew.merrowline.example"}},
	{name: "Deck Shift A", local: "deck-a@" + crewDomain, from: "Deck", people: 14, made: 134},
	{name: "Deck Shift B", local: "deck-b@" + crewDomain, from: "Deck", people: 14, made: 134},
	{name: "Deck Shift C", local: "deck-c@" + crewDomain, from: "Deck", people: 13, made: 134},
	{name: "Engine Room", local: "engine@" + crewDomain, from: "Engine", people: 30, made: 133, set: colleague, owners: []string{"mira.stor@crew.merrowline.example"}},
	{name: "Engine Shift A", local: "engine-a@" + crewDomain, from: "Engine", people: 9, made: 132},
	{name: "Engine Shift B", local: "engine-b@" + crewDomain, from: "Engine", people: 9, made: 132},
	{name: "All Crew", local: "all@" + crewDomain, from: "Deck", people: 1, made: 131, set: announce, owners: []string{"jonas.keel@crew.merrowline.example"}, extra: []string{"deck@" + crewDomain, "engine@" + crewDomain}},
	{name: "MV Curlew", local: "curlew@" + crewDomain, from: "Deck+Engine", people: 17, made: 130, why: "Crew of the Curlew."},
	{name: "MV Dunlin", local: "dunlin@" + crewDomain, from: "Deck+Engine", people: 15, made: 130, why: "Crew of the Dunlin."},
	{name: "MV Sanderling", local: "sanderling@" + crewDomain, from: "Deck+Engine", people: 16, made: 130, why: "Crew of the Sanderling."},
	{name: "MV Whimbrel", local: "whimbrel@" + crewDomain, from: "Deck+Engine", people: 12, made: 130, why: "Crew of the Whimbrel."},
	{name: "Masters and Mates", local: "masters@" + crewDomain, from: "Deck", people: 9, made: 129, set: secret + " externals=owners", extra: []string{"surveyor@tidefuel.example"}},
	{name: "Gannet Quay Terminal", local: "gannet-quay", from: "Terminals", people: 11, made: 128, set: intake, owners: []string{"elin.marram@merrowline.example"}},
	{name: "Sandwick Pier Terminal", local: "sandwick-pier", from: "Terminals", people: 9, made: 128, set: intake},
	{name: "North Ness Terminal", local: "north-ness", from: "Terminals", people: 7, made: 128, set: intake},
	{name: "Tern Island Terminal", local: "tern-island", from: "Terminals", people: 5, made: 128, set: intake},
	{name: "Eider Point Terminal", local: "eider-point", from: "Terminals", people: 6, made: 128, set: intake},
	{name: "Terminal Leads", from: "Terminals", people: 4, made: 127, owners: []string{"elin.marram@merrowline.example"}},
	{name: "Workshop", from: "Workshop", people: 14, made: 126, set: colleague, owners: []string{"rurik.gale@merrowline.example"}},
	{name: "Slipway Planning", from: "Workshop+Engine", people: 8, made: 125, owners: []string{"rurik.gale@merrowline.example"}},
	{name: "Spare Parts", from: "Workshop", people: 4, made: 124, set: wideOpen, extra: nil},
	{name: "Spares and Stores", local: "stores", from: "Workshop", people: 5, made: 90, set: colleague},
	{name: "Timetable", from: "Dispatch+Office", people: 6, made: 122, set: announce},
	{name: "Timetable Drafts", from: "Dispatch+Office", people: 5, made: 160},
	{name: "Tide and Weather", from: "Dispatch", people: 20, made: 121, set: announce + " find=anyone join.audience=anyone externals=adders", why: "The morning's tides and the forecast.", owners: []string{"bram.tolley@merrowline.example"}},
	{name: "Summer Route to Tern Island", local: "summer-tern", from: "Deck+Terminals", people: 10, made: 195, why: "The season's extra sailings."},
	{name: "Puffin Cruises", from: "Deck+Ticket Office", people: 8, made: 190, why: "Evening cruises, June to August."},
	{name: "Regatta Week", from: "", people: 12, made: 172, why: "Extra boats for the regatta."},
	{name: "Harvest Fair Stand", from: "Office+Ticket Office", people: 6, made: 170, why: "Our stand at the fair."},
	{name: "New Ticket Machines", from: "Ticket Office+Office", people: 7, made: 165, why: "The move to the new machines."},
	{name: "Bridge Paint Trial", from: "Workshop+Deck", people: 4, made: 158},
	{name: "Winter Timetable", from: "Dispatch+Office", people: 6, made: 110, retired: 12},
	{name: "Old Depot Move", from: "Workshop", people: 5, made: 115, retired: 20, why: "The move out of the old depot."},
	{name: "Uniform Committee", from: "", people: 6, made: 105, retired: 4},
	{name: "Choir", from: "", people: 14, made: 100, set: open, why: "Sea songs on Thursdays, canteen, 18:30."},
	{name: "Football", from: "", people: 18, made: 99, set: open},
	{name: "Allotments", from: "", people: 6, made: 98, set: open, why: "The plots behind the workshop."},
	{name: "Car Sharing", from: "", people: 22, made: 97, set: open},
	{name: "First Aiders", from: "Terminals+Deck+Workshop", people: 16, made: 96, set: colleague},
	{name: "Fire Wardens", from: "Terminals+Workshop+Office", people: 11, made: 96, set: colleague, why: "The fire wardens group."},
	{name: "Payroll", from: "Office", people: 3, made: 94, set: secret + " post=workspace"},
	{name: "Accounts", from: "Office", people: 4, made: 94, set: intake},
	{name: "Purchasing", from: "Office+Workshop", people: 4, made: 93, set: intake + " externals=owners", extra: []string{"sales@ropewalk.example"}},
	{name: "People Office", from: "Office", people: 3, made: 92, set: secret + " find=workspace post=workspace write_owners=workspace"},
	{name: "Newcomers", from: "", people: 9, made: 60, set: open, why: "For everyone in their first half year."},
	{name: "Web Page", from: "Office", people: 3, made: 80, set: intake},
	{name: "Quiet Hours", from: "Dispatch", people: 0, made: 75},
	{name: "Accessibility Circle", from: "", people: 8, made: 70, set: open + " externals=owners", why: "With passengers' associations.", extra: []string{"chair@coastwheel.example"}},
	{name: "Emergency Call-out", local: "emergency", from: "Dispatch+Safety", people: 9, made: 240, set: intake + " hold=nobody", why: "Whoever can come, at any hour.", exempt: "Must never lapse"},
	{name: "Timetables", from: "Dispatch+Office", people: 4, made: 40, set: colleague, why: "Drafts and misprints of the timetable."},
}

// ownerless lose their owners after they are made.
var ownerless = []string{"spare-parts@merrowline.example", "bridge-paint-trial@merrowline.example"}

// message is one message of the sample, so many days back.
type message struct {
	back          int
	from, to      string
	subject, text string
	proven        bool
}

const night = "night-dispatch@merrowline.example"

var posts = []message{
	{20, "Oda Fenn <oda.fenn@merrowline.example>", night, "Handover sheet is new", "From tonight the sheet has a column for the tide.", true},
	{19, "Tove Alder <tove.alder@merrowline.example>", night, "Re: Handover sheet is new", "Thank you. Which tide, ours or Eider Point's?", true},
	{19, "Bram Tolley <bram.tolley@merrowline.example>", night, "Re: Handover sheet is new", "Eider Point. Ours is on the wall.", true},
	{16, "Hale Corran <hale.corran@merrowline.example>", "all-staff@merrowline.example", "Canteen closed on Thursday", "The new floor goes in. Soup in the workshop from noon.", true},
	{15, "Petra Vane <petra.vane@merrowline.example>", "ticket-office@merrowline.example", "Rolls for the old machines", "The last box is under the counter at Sandwick Pier.", true},
	{14, "Rurik Gale <rurik.gale@merrowline.example>", "workshop@merrowline.example", "Dunlin on the slip, Monday", "Bring ear protection, the grinders run all day.", true},
	{12, "Harbour Master <master@gannetport.example>", "harbour-liaison@merrowline.example", "Dredging at berth 3", "Berth 3 is closed from the 2nd to the 9th.", true},
	{11, "Bram Tolley <bram.tolley@merrowline.example>", "tide-and-weather@merrowline.example", "Springs on Friday", "6.1 m at Gannet Quay. Watch the link span.", true},
	{10, "Anna Passenger <anna@letterbox.example>", "lost-property@merrowline.example", "A green umbrella", "I left it on the 17:40 from Tern Island, upper deck.", false},
	{8, "Elin Marram <elin.marram@merrowline.example>", "terminal-leads@merrowline.example", "Salt for the ramps", "Two pallets each by the end of the month.", true},
	{6, "Oda Fenn <oda.fenn@merrowline.example>", night, "Radio check at 02:00", "North Ness did not answer twice this week. Log it, please.", true},
	{5, "Somebody <prize@lucky-draw.example>", "questions@merrowline.example", "You have won a voyage", "Reply with your number.", false},
	{4, "Per Reader <per@letterbox.example>", "questions@merrowline.example", "Bicycles on the early boat?", "May we bring five bicycles on the 06:10?", false},
	{3, "Kim Walker <kim@walkers.example>", "lost-property@merrowline.example", "Walking boots, size 42", "Left at Eider Point, next to the timetable.", false},
	{2, "Tove Alder <tove.alder@merrowline.example>", night, "Can somebody swap Saturday?", "I sent this from home, so it may wait.", false},
	{1, "Mayor's Office <office@gannet-town.example>", "gannet-quay@merrowline.example", "Lights for the festival", "When may the electricians come?", false},
}
