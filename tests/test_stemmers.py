"""Stemmers against the examples of their publications."""

import pytest

from upsort.core.text.stemmers import STEMMERS

# M. F. Porter, An algorithm for suffix stripping, Program 14(3), 1980: the examples of its rules.
PORTER = """caresses caress ponies poni ties ti caress caress cats cat feed feed agreed agre plastered plaster bled bled motoring
motor sing sing conflated conflat troubled troubl sized size hopping hop tanned tan falling fall hissing hiss fizzed
fizz failing fail filing file happy happi sky sky relational relat conditional condit rational ration valenci valenc
hesitanci hesit digitizer digit conformabli conform radicalli radic differentli differ vileli vile analogousli analog
vietnamization vietnam predication predic operator oper feudalism feudal decisiveness decis hopefulness hope
callousness callous formaliti formal sensitiviti sensit sensibiliti sensibl triplicate triplic formative form
formalize formal electriciti electr electrical electr hopeful hope goodness good revival reviv allowance allow
inference infer airliner airlin gyroscopic gyroscop adjustable adjust defensible defens irritant irrit replacement
replac adjustment adjust dependent depend adoption adopt homologou homolog communism commun activate activ angulariti
angular homologous homolog effective effect bowdlerize bowdler probate probat rate rate cease ceas controll control
roll roll generalizations gener oscillators oscil"""

# M. F. Porter, the sample vocabularies published with each algorithm (2001).
PORTER2 = """consign consign
consigned consign consigning consign consignment consign consist consist consisted consist consistency
consist consistent consist consistently consist consisting consist consists consist consolation consol consolations
consol consolatory consolatori console consol consoled consol consoles consol consolidate consolid consolidated
consolid consolidating consolid consoling consol consolingly consol consols consol consonant conson consort consort
consorted consort consorting consort conspicuous conspicu conspicuously conspicu conspiracy conspiraci conspirator
conspir conspirators conspir conspire conspir conspired conspir conspiring conspir constable constabl constables
constabl constance constanc constancy constanc constant constant knack knack knackeries knackeri knacks knack knag
knag knave knave knaves knave knavish knavish kneaded knead kneading knead knee knee kneel kneel kneeled kneel
kneeling kneel kneels kneel knees knee knell knell knelt knelt knew knew knick knick knif knif knife knife knight
knight knightly knight knights knight knit knit knits knit knitted knit knitting knit knives knive knob knob knobs
knob knock knock knocked knock knocker knocker knockers knocker knocking knock knocks knock knopp knopp knot knot
knots knot skies sky dying die news news generate generat generously generous succeed succeed hopping hop hoping hope
tied tie cries cri gas gas kiwis kiwi this this yes yes luxuriated luxuri happily happili boy's boy"""
GERMAN = """aufeinander aufeinand aufeinanderbiss aufeinanderbiss aufeinanderfolge aufeinanderfolg aufeinanderfolgen
aufeinanderfolg aufeinanderfolgend aufeinanderfolg aufeinanderfolgende aufeinanderfolg aufeinanderfolgenden
aufeinanderfolg aufeinanderfolgt aufeinanderfolgt aufeinanderfolgten aufeinanderfolgt aufeinanderschlügen
aufeinanderschlug aufenthalt aufenthalt aufenthalten aufenthalt aufenthaltes aufenthalt auferlegen auferleg auferlegt
auferlegt auferlegten auferlegt auferstand auferstand auferstanden auferstand auferstehen aufersteh aufersteht
aufersteht auferstehung aufersteh auferstünde auferstund auferwecken auferweck auferweckt auferweckt auferzogen
auferzog aufessen aufess auffa auffa auffallen auffall auffallend auffall auffallende auffall auffallenden auffall
auffällig auffall auffälligen auffall auffälliges auffall kategorie kategori kategorien kategori kategorisch kategor
kater kat katers kat käthchen kathch kathedrale kathedral katholik kathol katholische kathol katholischen kathol
kätzchen katzch"""
FRENCH = """continu continu continua continu continuait continu continuant continu continuation continu continue continu continué
continu continuel continuel continuelle continuel continuellement continuel continuelles continuel continuels
continuel continuer continu continuera continu continuerait continu continueront continu continuez continu continuité
continu continuons continuon contorsions contors contour contour contournait contourn contournant contourn contourne
contourn contours contour contractait contract contracté contract contractée contract contracter contract contractés
contract contractions contract contradictoirement contradictoir contradictoires contradictoir contraindre contraindr
contraint contraint contrainte contraint contraintes contraint contraire contrair contraires contrair contraria
contrari main main mains main maintenaient mainten maintenait mainten maintenant mainten maintenir mainten maintenue
maintenu maintien maintien maintint maintint maire mair maires mair mairie mair mais mais maison maison maisons maison
maistre maistr maitre maitr maître maîtr maîtres maîtr maîtresse maîtress maîtresses maîtress majesté majest
majestueuse majestu majestueusement majestu majestueux majestu majeur majeur majeure majeur major major majordome
majordom majordomes majordom majorité major majorités major mal mal malacca malacc malade malad malades malad maladie
malad maladies malad maladive malad"""


@pytest.mark.parametrize(
    ("name", "examples"), [("porter", PORTER), ("porter2", PORTER2), ("german", GERMAN), ("french", FRENCH)]
)
def test_the_published_examples(name: str, examples: str) -> None:
    words = examples.split()
    pairs = dict(zip(words[::2], words[1::2], strict=True))
    assert {word: STEMMERS[name](word) for word in pairs} == pairs


@pytest.mark.parametrize("name", STEMMERS)
def test_odd_words_pass(name: str) -> None:
    for word in ("", "a", "'", "y", "ß", "日本", "aaaa", "'s", "q", "éèé", "1,000", "x" * 1000):
        assert isinstance(STEMMERS[name](word), str)
