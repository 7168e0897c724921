"""The vocabulary of Tarnbrook: invented waters, kit, strokes and courses, and the queries about them."""

from __future__ import annotations

from itertools import product

FRONT = "Arrow Brindle Carrow Dunnel Elver Fenwick Gillan Harrow Ister Jarrel Kelder Lorne Merrow Nettle Orrin Penna".split()
BACK = "beck burn dale fleet ford garth holm mere mouth pool reach stead wash water weir wyke".split()

STROKES = (
    "draw stroke|forward stroke|sweep stroke|low brace|high brace|kayak roll|ferry glide|eddy turn|j stroke|pry stroke|"
    "bow rudder|stern rudder|edging|capsize drill|wet exit|self rescue|assisted rescue|towing|portaging|reading water|"
    "open crossing|surf landing|wind paddling|night paddling|tandem paddling|solo canoeing|poling|lining rapids|"
    "paddle signals|trip planning|packing a kayak|cold water safety|navigation afloat|camp cooking|paddling posture|"
    "seal launch|hanging draw|cross bow draw|canadian stroke|static brace"
).split("|")

KIT = (
    "dry bag|spray deck|buoyancy aid|touring paddle|dry suit|wet shoes|canoe trolley|roof rack|bilge pump|paddle float|"
    "tow line|throw bag|deck compass|map case|helmet|paddle leash|canoe yoke|kneeling mat|canoe sail|folding saw|"
    "bivvy bag|gas stove|water filter|head torch|fleece|cagoule|neoprene gloves|pogies|sun hat|waterproof phone case|"
    "repair kit|keel strip|canoe barrel|paddle bag|kayak seat|foot pegs|hatch cover|airbags|car straps|wind meter"
).split("|")

INFLATABLES = (
    "inflatable kayak|packraft|inflatable canoe|electric pump|inflatable paddle|drop stitch floor|pump gauge|"
    "inflatable seat|patch kit|inflatable fin|raft bag|inflation valve"
).split("|")

COURSES = (
    "beginner kayak|canoe skills|sea kayak|white water|rescue skills|family canoe|women only paddling|guide training|"
    "first aid afloat|winter skills|river leader|open canoe sailing"
).split("|")

OFF_TOPIC = (
    "wild swimming|trout fishing|bird watching|camper van pitch|dog walking|sailing club|heritage railway|tide tables|"
    "paddle board yoga|foraging|stone skimming|moth trap|kite flying|canal boat licence|barbecue pit|ice skating|"
    "night photography|drone flying|geology walk|metal detecting|model boats|pond dipping|fly tying|hammock camping"
).split("|")

#: queries by kind of page; the first is the head query of its intent
ASK = {
    "rivers": "{} canoe route|kayaking the {}|{} paddling guide|{} launch points|{} river levels|{} canoe trip length|where to park {} canoe|{} rapids grade",
    "lakes": "{} kayaking|canoe on {}|{} paddling permit|{} launch spots|is {} safe to paddle|{} lake map|{} canoe camping",
    "technique": "{}|how to do {}|{} technique|{} for beginners|{} common mistakes|learn {}|{} drill|{} step by step",
    "kit": "{}|best {}|how to choose {}|{} guide|{} size chart|{} care|{} comparison|which {} for touring",
    "shop": "buy {}|{} for sale|{} price|cheap {}|{} shop|{} delivery",
    "hire": "canoe hire {}|kayak hire {}|hire a canoe {}|{} boat rental|{} canoe hire prices|{} paddle day hire",
    "courses": "{} course|{} lessons|{} training weekend|learn {} course|{} course dates|{} course price",
    "journal": "{} trip report|{} weekend story|paddling diary {}",
    "off": "{}|{} near me|best {} spots|{} for beginners|{} season|is {} allowed",
}

#: the same intent in other languages, for waters
ABROAD = {
    "de": "{} kajak tour|{} kanu mieten|paddeln auf {}|{} einsetzstelle parken|wie lang ist die tour {}|{} mit kindern paddeln",
    "fr": "canoë kayak {}|descente de {} en canoë|location canoë {}|où mettre à l'eau {}|{} avec des enfants|combien de temps pour {}",
    "es": "ruta en kayak {}|alquiler de canoas {}|dónde aparcar {}|{} con niños|nivel del río {}|remar en {}",
}

#: titles by kind of page
TITLES = {
    "rivers": "{}: canoe route, launch points and levels",
    "lakes": "{}: kayaking, permits and launch spots",
    "technique": "{}: technique step by step, drills and mistakes",
    "kit": "{}: how to choose, size, compare and care",
    "shop": "{} for sale: price and delivery",
    "hire": "Canoe and kayak hire at {}: prices and boats",
    "courses": "{} course: dates, lessons and price",
    "journal": "{}: a paddling diary",
    "help": "{}",
    "legal": "{}",
}

HEADINGS = {
    "rivers": "Launch points and parking|River levels and grade|Trip length and map|Canoe trail guide",
    "lakes": "Paddling permit|Launch spots and map|Is it safe to paddle|Camping by canoe",
    "technique": "How to do it|Common mistakes|Drill for beginners|Learn the technique",
    "kit": "Which is best for touring|Size chart|Care|Comparison guide",
    "shop": "Price|Delivery|In the shop now",
    "hire": "Hire prices|Day hire and rental of boats|Paddle and canoe sizes",
    "courses": "Course dates|Price|What you learn: lessons and training",
    "journal": "The weekend|Trip report",
    "help": "Questions",
    "legal": "Terms",
}

HELP = "delivery|returns|sizes|payment|gift cards|contact|opening times|how to find us|boat storage|complaints|newsletter|jobs"
LEGAL = "privacy|terms of sale|cookies|hire terms|accessibility|imprint"


def waters() -> list[str]:
    """Names of invented rivers and lakes without end, first short ones, then pairs."""
    short = [front + back for back, front in product(BACK, FRONT)]
    return short + [f"{kind} {name}" for kind, name in product(["Upper", "Lower", "Old", "Little", "Great", "Black", "White"], short)]


def numbered(words: list[str], count: int) -> list[str]:
    """The words, then the same words for other lengths of trip, until there are `count`."""
    turns = ["", "solo", "family", "sea", "winter", "river", "light", "long"]
    grown = [f"{turn} {word}".strip() for turn in turns for word in words]
    grown += [f"{word} mark {n}" for n in range(2, 2 + max(0, count - len(grown)) // len(words) + 1) for word in words]
    return grown[:count]
