"""Which package says best in what language a short text is: py3langid or lingua, on sentences of eight languages.

    python benchmarks/languages.py

The sentences are our own, of 5 to 30 words, in the scenario of the demo. Printed for each package: how many are
right, how many are wrong, how many are given to none, milliseconds a text, and the memory that it needs.
"""

from __future__ import annotations

import importlib
import json
import resource
import subprocess
import sys
import time
from collections.abc import Callable

SENTENCES = {
    "en": [
        "A red umbrella lies on the counter.",
        "The left mitten has a hole near the thumb and smells of smoke.",
        "Two gloves, one cap, no tag.",
        "Somebody left a green flask beside the window of the lower deck.",
        "There is a paper tag on the handle, but the number on it cannot be read.",
        "The rucksack is open and its front pocket holds a pair of glasses and an old ferry ticket.",
        "Grey woollen hat found under the third bench",
        "This bottle was handed in by a child who said that it had rolled down the stairs during the storm.",
        "Blue holdall with a broken zip",
        "What you see is a shelf with seven things on it, none of which seems to be damaged.",
    ],
    "de": [
        "Ein roter Schirm liegt auf der Theke.",
        "Der linke Fäustling hat ein Loch am Daumen und riecht nach Rauch.",
        "Zwei Handschuhe, eine Mütze, kein Zettel.",
        "Jemand hat eine grüne Flasche neben dem Fenster des unteren Decks vergessen.",
        "Am Griff hängt ein Zettel aus Papier, doch die Nummer darauf ist nicht zu lesen.",
        "Der Rucksack ist offen, und in der vorderen Tasche stecken eine Brille und eine alte Fahrkarte.",
        "Graue Wollmütze unter der dritten Bank gefunden",
        "Diese Flasche brachte ein Kind, das sagte, sie sei bei Sturm die Treppe hinuntergerollt.",
        "Blaue Reisetasche mit kaputtem Reißverschluss",
        "Man sieht ein Regal mit sieben Dingen, von denen keines beschädigt zu sein scheint.",
    ],
    "fr": [
        "Un parapluie rouge est posé sur le comptoir.",
        "La moufle gauche a un trou près du pouce et sent la fumée.",
        "Deux gants, une casquette, aucune étiquette.",
        "Quelqu'un a oublié une gourde verte près de la fenêtre du pont inférieur.",
        "Une étiquette en papier pend à la poignée, mais on ne peut pas lire le numéro.",
        "Le sac à dos est ouvert et sa poche avant contient des lunettes et un vieux billet de bateau.",
        "Bonnet de laine gris trouvé sous le troisième banc",
        "Cette bouteille a été rapportée par un enfant qui disait qu'elle avait roulé dans l'escalier pendant la tempête.",
        "Sac de voyage bleu avec fermeture cassée",
        "On voit une étagère avec sept objets dont aucun ne semble abîmé.",
    ],
    "es": [
        "Un paraguas rojo está sobre el mostrador.",
        "La manopla izquierda tiene un agujero cerca del pulgar y huele a humo.",
        "Dos guantes, una gorra, ninguna etiqueta.",
        "Alguien olvidó una botella verde junto a la ventana de la cubierta inferior.",
        "Del asa cuelga una etiqueta de papel, pero el número no se puede leer.",
        "La mochila está abierta y en su bolsillo delantero hay unas gafas y un billete viejo.",
        "Gorro gris de lana hallado bajo el tercer banco",
        "Esta botella la trajo un niño que dijo que había rodado por las escaleras durante la tormenta.",
        "Bolsa de viaje azul con cremallera rota",
        "Se ve un estante con siete objetos y ninguno parece estar dañado.",
    ],
    "it": [
        "Un ombrello rosso è appoggiato sul bancone.",
        "La muffola sinistra ha un buco vicino al pollice e odora di fumo.",
        "Due guanti, un berretto, nessuna etichetta.",
        "Qualcuno ha dimenticato una borraccia verde accanto alla finestra del ponte inferiore.",
        "Al manico è appesa un'etichetta di carta, ma il numero non si riesce a leggere.",
        "Lo zaino è aperto e nella tasca davanti ci sono un paio di occhiali e un vecchio biglietto.",
        "Cappello grigio di lana trovato sotto la terza panca",
        "Questa bottiglia l'ha portata un bambino che diceva che era rotolata giù per le scale durante la tempesta.",
        "Borsone blu con la cerniera rotta",
        "Si vede uno scaffale con sette oggetti, nessuno dei quali sembra rovinato.",
    ],
    "pt": [
        "Um guarda-chuva vermelho está sobre o balcão.",
        "A luva esquerda tem um buraco perto do polegar e cheira a fumo.",
        "Duas luvas, um boné, nenhuma etiqueta.",
        "Alguém esqueceu uma garrafa verde junto à janela do convés inferior.",
        "Na alça há uma etiqueta de papel, mas não se consegue ler o número.",
        "A mochila está aberta e no bolso da frente há uns óculos e um bilhete antigo.",
        "Gorro cinzento de lã achado debaixo do terceiro banco",
        "Esta garrafa foi entregue por uma criança que disse que ela tinha rolado pelas escadas durante a tempestade.",
        "Saco de viagem azul com fecho partido",
        "Vê-se uma prateleira com sete objetos e nenhum parece estragado.",
    ],
    "nl": [
        "Een rode paraplu ligt op de toonbank.",
        "De linkerwant heeft een gat bij de duim en ruikt naar rook.",
        "Twee handschoenen, een pet, geen label.",
        "Iemand heeft een groene fles naast het raam van het onderste dek laten staan.",
        "Aan het handvat hangt een papieren label, maar het nummer is niet te lezen.",
        "De rugzak is open en in het voorvak zitten een bril en een oud kaartje.",
        "Grijze wollen muts gevonden onder de derde bank",
        "Deze fles werd gebracht door een kind dat zei dat hij tijdens de storm van de trap was gerold.",
        "Blauwe reistas met kapotte rits",
        "Je ziet een plank met zeven dingen waarvan er geen beschadigd lijkt.",
    ],
    "sv": [
        "Ett rött paraply ligger på disken.",
        "Den vänstra vanten har ett hål vid tummen och luktar rök.",
        "Två handskar, en keps, ingen lapp.",
        "Någon har glömt en grön flaska bredvid fönstret på nedre däck.",
        "På handtaget hänger en papperslapp, men numret går inte att läsa.",
        "Ryggsäcken är öppen och i framfickan finns ett par glasögon och en gammal biljett.",
        "Grå yllemössa hittad under den tredje bänken",
        "Den här flaskan lämnades in av ett barn som sade att den hade rullat nedför trappan under stormen.",
        "Blå resväska med trasigt blixtlås",
        "Man ser en hylla med sju saker och ingen av dem verkar vara skadad.",
    ],
}

LANGUAGES = [
    "en",
    "de",
    "fr",
    "es",
    "it",
    "pt",
    "nl",
    "sv",
    "da",
    "no",
    "fi",
    "pl",
    "ja",
    "ko",
    "zh",
    "ru",
    "el",
    "ar",
    "he",
]
"""Those that Drovik tells apart, and each way has to."""


def _py3langid() -> Callable[[str], str | None]:
    module = importlib.import_module("py3langid.langid")
    identifier = module.LanguageIdentifier.from_model_file(module.MODEL_FILE, norm_probs=True)
    identifier.set_languages(LANGUAGES)

    def of(text: str) -> str | None:
        code, sure = identifier.classify(text)
        return str(code) if sure >= 0.5 else None

    return of


def _lingua() -> Callable[[str], str | None]:
    module = importlib.import_module("lingua")
    codes = [getattr(module.IsoCode639_1, "NB" if code == "no" else code.upper()) for code in LANGUAGES]
    languages = [module.Language.from_iso_code_639_1(code) for code in codes]
    detector = module.LanguageDetectorBuilder.from_languages(*languages).with_minimum_relative_distance(0.05).build()

    def of(text: str) -> str | None:
        language = detector.detect_language_of(text)
        return language.iso_code_639_1.name.lower() if language is not None else None

    return of


def _ours() -> Callable[[str], str | None]:
    return importlib.import_module("drovik.scoring.language.detecting").language_of  # type: ignore[no-any-return]


WAYS = {"py3langid": _py3langid, "lingua": _lingua, "used here": _ours}


def _measure(way: str) -> None:
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    started = time.perf_counter()
    of = WAYS[way]()
    of("Something to begin with.")
    loaded = time.perf_counter() - started
    right = wrong = none = 0
    started = time.perf_counter()
    for code, texts in SENTENCES.items():
        for text in texts:
            found = of(text)
            right, wrong, none = right + (found == code), wrong + (found not in (code, None)), none + (found is None)
    took = (time.perf_counter() - started) / (right + wrong + none)
    memory = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    print(json.dumps([right, wrong, none, took * 1000, loaded, memory]))


def main() -> None:
    """Each way in a process of its own, so that its memory is its own."""
    for way in WAYS:
        done = subprocess.run([sys.executable, __file__, way], capture_output=True, text=True, check=False)
        if done.returncode:
            print(f"{way}: not installed or not working: {done.stderr.strip().splitlines()[-1]}")
            continue
        right, wrong, none, took, loaded, memory = json.loads(done.stdout)
        print(
            f"{way}: {right} of {right + wrong + none} right, {wrong} wrong, {none} given to none; "
            f"{took:.2f} ms a text, {loaded:.1f} s to load, {memory:.0f} MB"
        )


if __name__ == "__main__":
    if len(sys.argv) > 1:
        _measure(sys.argv[1])
    else:
        main()
