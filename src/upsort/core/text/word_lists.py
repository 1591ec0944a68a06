"""Stop words of eleven languages: words of grammar that say little about a document's subject.

Each language lists its negations apart, since a dropped negation turns a statement into its opposite; they are no stop words
unless asked for. The lists are our own, German and Turkish ones made from their grammar, in lower case, with apostrophes as typed
(').

Lemmas: the base form of a word, from a table of forms, from suffix rules learned from it, or by English detachment rules."""

from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from dataclasses import field
from functools import cache

from upsort.core.lazy import record


@cache
def stop_words(language: str) -> frozenset[str]:
    """The stop words of a language (a two-letter code of LANGUAGES), without its negations; none for another language."""
    return frozenset(_WORDS.get(language, "").split()) - negations(language)


@cache
def negations(language: str) -> frozenset[str]:
    """The negations of a language."""
    return frozenset(_NEGATIONS.get(language, "").split())


def greetings(language: str) -> frozenset[str]:
    """Words with which letters begin and end; none for a language that has no list."""
    return frozenset(_GREETINGS.get(language, "").split())


_WORDS = {
    "en": """
        a about above after again against all also although always am among an and another any anybody anyone anything are
        around as at away be became because become been before being below between both but by can can't could did do does doing
        done down during each either else enough even ever every everybody everyone everything few first for from further get
        gets getting give given go goes going gone got had has have having he he'd he'll he's her here here's hers herself him
        himself his how how's however i i'd i'll i'm i've if in indeed instead into is it it'd it'll it's its itself just last
        least less let let's like made make makes many may maybe me might mine more most much must my myself now of off often on
        once one only onto or other others ought our ours ourselves out over own perhaps please quite rather really same see
        seem seems seen shall she she'd she'll she's should since so some somebody someone something sometimes somewhere soon
        still such take than that that's the their theirs them themselves then there there's therefore these they they'd they'll
        they're they've thing things this those though through thus till to together too toward towards two under unless until
        up upon us use very was we we'd we'll we're we've went were what what's whatever when when's whenever where where's
        wherever whether which while who who's whoever whole whom whose why will with within would yes yet you you'd you'll
        you're you've your yours yourself yourselves""",
    "fr": """
        à afin ai ainsi alors après as au aucun aujourd'hui auquel aussi autre autres aux auxquels avait avant avec avez avoir
        avons ayant beaucoup bien c'est car ce ceci cela celle celles celui cependant certains ces cet cette ceux chaque chez
        comme comment d'un d'une dans de déjà depuis des dès deux devant doit donc dont du elle elles en encore entre es est et
        étaient était étant été être eu eux faire fait fois font ici il ils j'ai je jusque l'on la là laquelle le lequel les
        lesquelles lesquels leur leurs lors lorsque lui ma mais me même mêmes mes moi moins mon n'est nos notre nous on ont or
        ou où par parce parfois peu peut plus plusieurs pour pourquoi pourtant presque puis puisque qu'elle qu'il qu'on quand
        que quel quelle quelles quelque quelques quels qui quoi sa se selon sera ses si sien soi soit son sont sous souvent suis
        sur ta te tel telle tes toi ton toujours tous tout toute toutes très trop tu un une vers voici voilà vos votre vous y
        sommes êtes serait seraient étais avaient aura auront aurait auraient eut fut furent soient ait aient fais peuvent
        pouvait doivent voulait veut veux vont va c d j l m s t qu jusqu lorsqu puisqu quelqu presqu""",
    "es": """
        a adonde ahora al algo alguien alguna algunas alguno algunos allí ante antes aquel aquella aquellas aquello aquellos
        aquí así aún aunque bajo bien cada casi como cómo con conmigo contigo contra cual cuál cuales cualquier cuando cuándo
        cuanto de del desde después donde dónde dos durante e el él ella ellas ellos en entonces entre era eran eres es esa esas
        ese eso esos esta está estaba estado están estar estas este esto estos estoy fue fueron ha había habían hace hacer hacia
        han hasta hay he hemos la las le les lo los luego mas más me mi mí mientras mis mismo mucha muchas mucho muchos muy nos
        nosotras nosotros nuestra nuestras nuestro nuestros o os otra otras otro otros para pero poco por porque pues que qué
        quien quién quienes se sea según ser si sí sido siempre sin sino sobre solo sólo somos son soy su sus suya suyo también
        tan tanto te tener tengo ti tiene tienen todas todavía todo todos tu tú tus tuya tuyo un una unas uno unos usted ustedes
        vosotros vuestra vuestro y ya yo será serán sería serían hubo hubieron estaban estuvo estuvieron eras éramos fui fuimos
        sean fuese fuera tuvo tuvieron tenía tenían tenemos puede pueden podía debe deben habrá habría""",
    "it": """
        a abbiamo ad agli ai al alla alle allo allora altra altre altri altro anche ancora appena avere aveva avevano c'è che
        chi ci cioè cogli coi col come con così cosa cui da dagli dai dal dalla dalle dallo degli dei del della delle dello
        dentro di dopo dove dunque e è ed egli era erano essa esse essere essi fa fare fin finché fino fra già gli ha hai hanno
        ho i il in infatti io l'ho la là le lei li lo loro lui ma me meno mentre mi mia mie miei mio molta molte molti molto ne
        negli nei nel nella nelle nello noi nostra nostre nostri nostro o od ogni ognuno oltre oppure ora per perché però più
        po' poco poi prima proprio può qua qual quale quali qualche quando quanta quanti quanto quasi quel quella quelle quelli
        quello quest'anno questa queste questi questo qui quindi sarà se sé sei sempre senza si sì sia siamo siano siete solo
        sono sopra sotto stata state stati stato sto su sua sue sugli sui sul sulla sulle sullo suo suoi tale tali tanto te ti
        tra tu tua tue tuo tuoi tutta tutte tutti tutto un un' una uno vi voi vostra vostre vostri vostro fu furono sarebbe
        sarebbero saranno foste fossi fosse fossero eravamo eravate avrà avranno avrebbe avrebbero avevamo avuto ebbe stava
        stavano sta stanno possono poteva deve devono dev c d l m n s t v all dall dell nell sull coll quell quest dov com anch
        senz tutt gl""",
    "pt": """
        a à agora ainda algo alguém alguma algumas algum alguns ali ante antes ao aos apenas após aquela aquelas aquele aqueles
        aquilo aqui as às assim até através bem cada com como comigo contra cuja cujo da dá daquele das de dela delas dele deles
        depois desde dessa desse desta deste do dois dos duas durante e é ela elas ele eles em enquanto entre era eram és essa
        essas esse esses esta está estão estar estas estava este estes estou eu fazer foi foram for fosse há havia isso isto já
        lá lhe lhes logo mais mas me meio mesma mesmo meu meus mim minha minhas muita muitas muito muitos na nas nela nele nessa
        nesse nesta neste no nos nós nossa nossas nosso nossos num numa o onde os ou outra outras outro outros para pela pelas
        pelo pelos per pode podem pois por porque porquê pouco pra qual quais qualquer quando quanto quase que quê quem são se
        seja sem sempre sendo ser será seu seus si sido só sob sobre sou sua suas também tanta tanto te tem têm tendo tenho ter
        teu teus ti tinha toda todas todo todos tu tua tuas tudo um uma umas uns vai você vocês vos vossa vosso houve houveram
        haverá seria seriam tinham teve tiveram terá teria estiveram esteve estavam fui fossem sejam serão haja deve devem podia
        poderia d""",
    "nl": """
        aan af al alle alleen alles als altijd ander andere anders bent ben bij binnen boven bovendien buiten daar daarbij
        daarna daarom daarop dan dat de deze die dit doch doen door dus een eens elk elke en enige enkele er erg ergens even ge
        gaan gaat geweest geworden gij haar had hadden heb hebben hebt heeft hem hen het hier hij hoe hun iemand iets ik in
        inmiddels is ja je jij jou jouw jullie kan kon konden kunnen maar maken mag me meer meest men met mij mijn misschien
        moest moet moeten na naar naast nadat nog nogal nu of om omdat onder ons onze ook op opnieuw over pas per reeds rond
        sinds slechts sommige soms te tegen ten ter terwijl tijdens toch toe toen tot tussen uit uw van vaak vanaf vanuit veel
        verder via vol volgens voor vooral voordat vroeg waar waarom waarop wanneer want waren was wat we weer wel welk welke
        werd werden wie wij wil worden wordt zal ze zeer zelf zich zij zijn zo zoals zodat zonder zou zouden zulke u wezen zult
        zullen moesten mochten mocht kunt kun wou wilden hare ieder iedere""",
    "sv": """
        aldrig all alla allt alltid allting än ända ändå andra annan annat är åt att av bara båda både bakom behöva behöver blev
        bli blir blivit borde bort bör då därför de dem den denna dess dessa det detta dig din dina dit ditt du där därifrån
        efter eftersom egen eget egna eller en ens er era ert ett fast finns fick för före fram framför från få får fått ganska
        genom gör göra gjorde gärna ha hade han hans har hela helt henne hennes hit honom hon här hur i ibland ifrån igen in
        inför innan inom inte ja jag just kan kunde kunna kommer lika lite man med medan mellan men mer mest mig min mina mitt
        mot mycket måste många ned ner ni nog nu när någon något några näst och ofta om omkring oss på redan runt så sådan
        sådana sådant samma samt sedan sig sin sina sitt själv själva ska skall skulle som snart snarare strax stå särskilt till
        tills tillsammans trots under upp ur ut utan utom vad var vara varför varit varje vars vart vem vems vi via vid vilka
        vilken vilket vill vilja ville väl vår våra vårt över""",
    "da": """
        ad af aldrig alle allerede alt altid anden andet andre at bag bare begge blandt blev blive bliver burde bør både da de
        dem den denne der deres derfor derfra det dette dig din dine disse dit dog du efter egen eget egne eller en end endda
        endnu er et fik flere flest for foran fordi forrige fra få får fået før først gennem gerne gjorde gør gøre ham han hans
        har have havde heller hen hende hendes her hos hun hvad hvem hver hvilke hvilken hvilket hvis hvor hvordan hvorfor
        hvornår i igen igennem imellem imod ind inden indtil ja jeg jer jeres jo kan kom kommer kun kunne kunnet langs lidt lige
        ligesom man mange med meget mellem men mens mere mest mig min mine mit mod må måske måtte ned ni nogen noget nogle nok
        nu når nær næste næsten og også om omkring op os over overfor på samme samt selv selvom ses siden sig sin sine sit skal
        skulle snart som stadig så sådan således temmelig til tilbage under ud uden udover var ved vi vil ville vor vore vores
        været være år""",
    "ru": """
        а без более больше будем будет будете будешь буду будут будь бы был была были было быть в вам вами вас ваш ваша ваше
        ваши вашего вашей весь вместо во вот впрочем все всего всей всем всеми всех всю вся всё всегда вы где да даже для до его
        ее ей ему если есть еще ещё её же за затем зачем здесь и из или им ими иногда их к каждый каждая каждое как какая какие
        какой какое кем когда кого ком кому конечно которая которого которое которой котором которому которую которые который
        которых кроме кто куда ли лишь между меня мне много мной мною мог могла могли может можно могут мое моего моей моем мои
        мой моя мы на над надо нам нами нас наш наша наше наши нашего нашей него нее ней нем нему них о об около он она они оно
        от откуда очень перед по под пока после потом потому почему почти при про раз разве с сам сама сами само самый свое
        своего своей своем свои своим своих свой свою своя сейчас себе себя собой собою со совсем так такая такие такое такой
        также там те тебе тебя тем теми теперь тех то тобой тобою тогда того той только том тому тот тою туда тут ты у уже хоть
        хотя чего чей чем через что чтобы чуть эта эти этим этими этих это этого этой этом этому этот эту я""",
}
_NEGATIONS = {
    "en": """no nor not never none nobody nothing nowhere neither cannot without ain't aren't couldn't didn't doesn't don't hadn't
        hasn't haven't isn't mightn't mustn't needn't shan't shouldn't wasn't weren't won't wouldn't hardly""",
    "de": "nicht nie niemals nichts nirgends niemand niemandem niemanden kein keine keinem keinen keiner keines nein weder",
    "fr": "ne n n' pas jamais rien personne aucune nul nulle ni non sans guère point",
    "es": "no ni nunca jamás nada nadie ningún ninguna ninguno tampoco",
    "it": "non né mai niente nulla nessun nessuna nessuno no neanche nemmeno neppure",
    "pt": "não nem nunca jamais nada ninguém nenhum nenhuma tampouco",
    "nl": "niet geen nooit niets niemand nergens noch nee",
    "tr": "değil yok hayır hiç hiçbir ne asla",
    "sv": "inte ej icke aldrig ingen inget inga ingenting ingenstans varken nej",
    "da": "ikke ej aldrig ingen intet ingenting ingensteds hverken nej",
    "ru": "не ни нет никогда никто ничего ничто нигде никуда никого никому никакой никакая никакие никак нельзя",
}


# German: declined words and owning words by their stems; prepositions that make adverbs with da- and wo-; the rest in full.
_DECLINED = "dies jen jed manch solch welch all einig mehrer beid ander derselb dieselb viel wenig"
_OWNED = "ein mein dein sein ihr unser eur"
_WITH_ADVERBS = "an auf aus bei durch für gegen hinter in mit nach neben über um unter von vor zu zwischen"
_GERMAN = """
    der die das den dem des dessen deren denen ich mich mir du dich dir er ihn ihm sie ihr ihnen es wir uns euch euer sich wer
    wen wem wessen was man selbst selber jemand jemandem jemanden etwas einander viel wenig mehr außer bis ohne seit trotz
    während wegen am ans beim im ins vom zum zur und oder aber denn sondern doch dass ob wenn weil da obwohl bevor nachdem
    sobald solange falls als wie sowie sowohl entweder also daher deshalb deswegen dennoch jedoch trotzdem nämlich zwar indem
    bin bist ist sind seid war warst waren wart gewesen wäre wären haben habe hast hat habt hatte hattest hatten gehabt hätte
    hätten werden werde wirst wird werdet wurde wurden worden geworden würde würden können kann kannst könnt konnte konnten
    könnte könnten müssen muss musst müsst musste mussten müsste müssten dürfen darf darfst dürft durfte durften dürfte dürften
    sollen soll sollst sollt sollte sollten wollen will willst wollt wollte wollten mögen mag magst mögt mochte mochten möchte
    möchten ja schon noch nur auch so sehr mal eben etwa immer oft wieder hier dort dann nun jetzt wo wann warum wieso weshalb
    wohin woher her hin ganz fast gar sonst vielleicht sei seien seist sein seine wolltest konntest hättest wärst würdest
    möchtest mögest derer wäret hättet
"""


def _german() -> str:
    """Articles, pronouns, prepositions with their adverbs, conjunctions, auxiliaries and modal verbs, in all their forms."""
    endings = ("", "e", "em", "en", "er", "es")
    declined = [stem + ending for stem in _DECLINED.split() for ending in endings[1:]]
    owned = [stem + ending for stem in _OWNED.split() for ending in endings if stem != "eur" or ending]
    adverbs = [
        f"{begin}{'r' if preposition[0] in 'aeiouü' else ''}{preposition}"
        for begin in ("da", "wo")
        for preposition in _WITH_ADVERBS.split()
    ]
    return " ".join([_GERMAN, _WITH_ADVERBS, *declined, *owned, *adverbs])


# Turkish: demonstratives and places by their stems, the rest in full.
_CASES_AFTER_N = "u un a da dan unla lar ları ların lara larda lardan"
_PLACES = "bura şura ora"
_TURKISH = """
    ben beni benim bana bende benden benimle sen seni senin sana sende senden seninle o onu onun ona onda ondan onunla biz bizi
    bizim bize bizde bizden bizimle siz sizi sizin size sizde sizden sizinle onlar onları onların onlara onlarda onlardan kendi
    kendim kendin kendisi kendimiz kendiniz kendileri bu şu kim kimi kimin kime kimde kimden ne neyi neye nerede nereden nereye
    neden niçin niye nasıl hangi hangisi için ile gibi kadar göre karşı rağmen dolayı beri önce sonra üzere dair başka doğru
    üzerinde tarafından ve veya ya yahut ama fakat ancak lakin çünkü zira eğer ki hem oysa yani üstelik ayrıca böylece yoksa
    hatta idi imiş ise iken olan olarak olur oldu olduğu olsa olmak olması var her bazı birçok çok az tüm bütün hepsi biraz
    birkaç kimse herkes herhangi diğer öteki aynı bir da de mi mı mu mü bile dahi en daha pek zaten artık henüz hâlâ hala yine
    gene şimdi işte böyle şöyle öyle sanki
"""


def _turkish() -> str:
    """Pronouns and demonstratives in their cases, postpositions, conjunctions, the copula, question words and particles."""
    demonstratives = [f"{stem}n{case}" for stem in ("bu", "şu") for case in _CASES_AFTER_N.split()]
    places = [f"{stem}{case}" for stem in _PLACES.split() for case in ("da", "dan", "ya", "sı")]
    return " ".join([_TURKISH, *demonstratives, *places])


_WORDS |= {"de": _german(), "tr": _turkish()}
LANGUAGES = ("en", "de", "fr", "es", "it", "pt", "nl", "sv", "da", "ru", "tr")


_GREETINGS = {
    "en": "hello hi hey dear greetings good morning afternoon evening thanks thank kind regards wishes sincerely yours cheers",
    "de": "hallo guten tag morgen abend liebe lieber geehrte geehrter damen herren danke dank gruß grüße freundlichen herzliche",
    "fr": "bonjour bonsoir salut cher chère chers madame monsieur merci cordialement salutations bien amicalement",
    "es": "hola buenos buenas días tardes noches estimado estimada querido querida gracias saludos atentamente cordiales",
    "it": "ciao buongiorno buonasera salve caro cara gentile grazie saluti cordiali distinti",
    "pt": "olá oi bom boa dia tarde noite caro cara prezado prezada obrigado obrigada cumprimentos saudações",
}


_LONGEST_SUFFIX = 6
_LEAST_FORMS = 2
_LEAST_STEM = 2
_LEAST_PLURAL = 3


@record(frozen=True)
class SuffixRules:
    """For an ending of forms, how many characters to take off and what to put on: the most common way among the table's forms."""

    rules: Mapping[str, tuple[int, str]]

    def lemma(self, form: str) -> str:
        """The lemma by the longest ending that has a rule; the form itself without one."""
        for size in range(min(_LONGEST_SUFFIX, len(form) - _LEAST_STEM), 0, -1):
            rule = self.rules.get(form[-size:])
            if rule is not None:
                cut, put = rule
                return form[: len(form) - cut] + put
        return form


def learned_rules(table: Mapping[str, str]) -> SuffixRules:
    """Rules from forms and their lemmas. An ending gets a rule when at least two forms have it."""
    ways: dict[str, Counter[tuple[int, str]]] = {}
    for form, lemma in sorted(table.items()):
        same = 0
        while same < min(len(form), len(lemma)) and form[same] == lemma[same]:
            same += 1
        change = (len(form) - same, lemma[same:])
        for size in range(max(1, change[0]), min(_LONGEST_SUFFIX, len(form) - _LEAST_STEM) + 1):
            ways.setdefault(form[-size:], Counter())[change] += 1
    rules = {}
    for ending, counts in ways.items():
        change, times = min(counts.items(), key=lambda entry: (-entry[1], entry[0]))
        if counts.total() >= _LEAST_FORMS and times * 2 > counts.total():
            rules[ending] = change
    return SuffixRules(rules)


@record(frozen=True)
class RuleQuality:
    """How the learned rules do on forms that they were not learned from."""

    right: int
    of: int


def rules_on_held_out(table: Mapping[str, str]) -> RuleQuality:
    """Learn from nine tenths of the table and try the rest; every tenth form in sorted order is held out."""
    forms = sorted(table)
    held_out = forms[::10]
    rules = learned_rules({form: table[form] for form in forms if form not in set(held_out)})
    return RuleQuality(sum(rules.lemma(form) == table[form] for form in held_out), len(held_out))


def table_lemmatiser(table: Mapping[str, str]) -> Callable[[str], str]:
    """Lemmas from a table of forms; forms that it lacks by rules learned from it."""
    rules = learned_rules(table)
    lemmas = set(table.values())
    return lambda form: table[form] if form in table else form if form in lemmas else rules.lemma(form)


_VOWELS = frozenset("aeiou")
_DOUBLING_CONSONANTS = frozenset("bdgklmnprt")
"""Consonants that are doubled after a short stressed vowel before an ending that begins with a vowel: dig, digging."""


def _without_s(form: str) -> Iterator[str]:
    """What may stand before the -s of plurals and of the third person (Quirk et al. 1985, sections 3.5 and 5.80)."""
    if not form.endswith("s"):
        return
    stem = form[:-1]
    if stem.endswith("ie"):  # cookies
        yield stem
        if stem[-3:-2] not in _VOWELS:  # ladies: a consonant and y
            yield f"{stem[:-2]}y"
    if stem.endswith("zze"):  # buzzes, quizzes
        yield stem[:-1]
        yield stem[:-2]
    sibilant = stem.endswith(("sse", "she", "che", "xe", "ze"))
    if sibilant:
        yield stem[:-1]
    if not stem.endswith("s"):
        yield stem
    if stem.endswith("oe"):  # potatoes, but toes
        yield stem[:-1]
    if stem.endswith("se") and not sibilant:  # buses, but houses
        yield stem[:-1]


def _without(form: str, ending: str) -> Iterator[str]:
    """What may stand before an ending that begins with a vowel: a final e is dropped before it, a final consonant may be doubled,
    y becomes i after a consonant unless the ending begins with i."""
    if not form.endswith(ending):
        return
    stem = form[: -len(ending)]
    if ending[0] != "i" and stem.endswith("i") and stem[-2:-1] not in _VOWELS:
        yield f"{stem[:-1]}y"
    if ending[0] == "i" and stem.endswith("y"):  # lying
        yield f"{stem[:-1]}ie"
    yield f"{stem}e"
    yield stem
    if len(stem) > 2 and stem[-1] == stem[-2] and stem[-1] in _DOUBLING_CONSONANTS:
        yield stem[:-1]


def _bases_of(form: str, part: str) -> Iterator[str]:
    """The words that a form may be an inflection of, the likeliest first (Quirk et al. 1985, chapters 3, 5 and 7)."""
    match part:
        case "noun":
            yield from _without_s(form)
            if form.endswith("men"):
                yield f"{form[:-3]}man"
        case "verb":
            yield from _without_s(form)
            for ending in ("ed", "ing"):
                yield from _without(form, ending)
        case "adjective":
            for ending in ("er", "est"):
                yield from _without(form, ending)
        case _:
            raise ValueError(f"there is no part of speech {part!r}")


@record(frozen=True)
class EnglishWords:
    """The English word lists. bases: known base forms. irregular: for each part of speech, forms and their lemmas. comparing:
    adjectives that are compared by -er and -est. protected: words that look like forms of others and are none."""

    bases: frozenset[str] = frozenset()
    irregular: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    comparing: frozenset[str] = frozenset()
    protected: frozenset[str] = frozenset()


def english_lemma(form: str, part: str, known: EnglishWords) -> str:
    """The base form of an English word.

    part: noun, verb or adjective, or empty to try them in that order; a word that is a base form itself then keeps itself. A word
    that no rule leads to a known base loses the s of a regular plural."""
    for owner in ("'s", "’s"):
        form = form.removesuffix(owner)
    form = form.rstrip("'’") or form
    if not part and form in known.protected:
        return form
    parts = (part,) if part else ("noun", "verb", "adjective")
    for kind in parts:
        if form in known.irregular.get(kind, {}):
            return known.irregular[kind][form]
    if not part and form in known.bases:
        return form
    for kind in parts:
        bases = known.comparing if kind == "adjective" else known.bases
        for base in _bases_of(form, kind):
            if len(base) >= _LEAST_STEM and base in bases:
                return base
    regular_plural = form.endswith("s") and not form.endswith(("ss", "us", "is", "as", "os")) and len(form) > _LEAST_PLURAL
    if not regular_plural or part not in {"", "noun"}:
        return form
    return f"{form[:-3]}y" if form.endswith("ies") and len(form) > _LEAST_PLURAL + 1 else form[:-1]
