"""Where sentences and clauses end: marks, abbreviations that end none, and the words that begin another clause."""

from functools import cache

SENTENCE_ENDS = ".!?…。！？"
CLAUSE_ENDS = f"{SENTENCE_ENDS},;:()\n、，；："

_ABBREVIATIONS = {
    "en": """
        mr mrs ms dr prof st rev hon sr jr vs etc approx dept est fig figs inc ltd co no nos vol pp ed eds jan feb mar apr
        jun jul aug sep sept oct nov dec mon tue wed thu fri sat sun ave rd e.g i.e a.m p.m cf al""",
    "de": """
        hr fr dr prof str nr ca bzw usw evtl ggf inkl exkl zzgl vgl bsp abs abb bd hrsg jh jan feb mär apr jun jul aug sep
        sept okt nov dez mo di mi do sa so tel st mio mrd max min geb gest sog allg z.b d.h u.a i.d.r o.ä s.o s.u""",
    "fr": """
        m mm mme mmes mlle mlles dr pr me st ste av bd env etc ex fig p pp vol éd hab janv févr avr juil sept oct nov déc cf
        c.-à-d p.ex""",
    "es": """
        sr sra sres sras srta dr dra prof d dña ud uds av avda núm nº pág págs etc ej aprox tel vol ene feb mar abr jun jul
        ago sep sept oct nov dic p.ej""",
    "it": """
        sig sigg sig.ra dott dott.ssa prof prof.ssa ing avv arch geom art n nr pag pagg vol ecc es ca tel cfr gen feb mar
        apr mag giu lug ago set ott nov dic p.es""",
    "pt": """
        sr sra srs dr dra prof profa av núm nº pág págs etc ex aprox tel vol jan fev mar abr mai jun jul ago set out nov dez
        p.ex""",
    "nl": """
        dhr mevr mw dr prof ir drs mr str nr ca bijv enz etc evt incl excl blz jan feb mrt apr jun jul aug sep sept okt nov
        dec tel m.a.w d.w.z o.a b.v""",
    "sv": """
        dr prof nr ca bl ev inkl exkl kl jan feb mar apr jun jul aug sep sept okt nov dec tel t.ex d.v.s m.m o.s.v bl.a""",
    "da": """
        dr prof hr fr nr ca bl evt inkl ekskl kl jan feb mar apr jun jul aug sep sept okt nov dec tlf f.eks d.v.s m.m o.s.v
        bl.a""",
    "ru": """
        г гг им ул д кв стр с рис тыс млн млрд руб коп проф акад см ср янв февр апр авг сент окт нояб дек тел т.е т.д т.п
        т.к""",
    "tr": """
        dr doç prof av müh sn bay bayan no sok cad apt mah örn vb vs bkz yy tel st sf ocak t.c m.ö m.s""",
}
_BEGIN_A_CLAUSE = {
    "en": "but however although though because while whereas",
    "de": "aber sondern doch jedoch obwohl weil denn während",
    "fr": "mais car parce quoique cependant pourtant",
    "es": "pero sino aunque porque mientras",
    "it": "ma però perché sebbene mentre anzi",
    "pt": "mas porém porque embora enquanto",
    "nl": "maar want omdat hoewel terwijl",
    "sv": "men utan eftersom fast medan",
    "da": "men fordi selvom mens",
    "ru": "но а однако хотя потому",
    "tr": "ama fakat ancak çünkü lakin oysa",
}


_ORDINALS = frozenset({"de", "da", "tr"})
"""Languages in which a full stop behind a number of one or two digits makes it an ordinal."""


def ends_no_sentence(word: str, language: str) -> bool:
    """Whether a full stop right behind a word belongs to it: behind a single letter, an abbreviation, an ordinal."""
    if word.isdigit():
        return language in _ORDINALS and len(word) <= 2
    return len(word) == 1 or word.lower() in abbreviations(language)


@cache
def abbreviations(language: str) -> frozenset[str]:
    """What ends in a full stop that ends no sentence, in lower case, without that stop."""
    return frozenset(_ABBREVIATIONS.get(language, "").split())


@cache
def conjunctions(language: str) -> frozenset[str]:
    """Words that begin another clause than the one before them."""
    return frozenset(_BEGIN_A_CLAUSE.get(language, "").split())
