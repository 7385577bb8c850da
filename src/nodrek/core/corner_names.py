"""What a channel's name says: which corner, and whether it is a wheel speed at all.

Vocabulary of English, German, French, Spanish, Italian, Polish, Portuguese, Dutch, Swedish, Czech, Danish, Norwegian,
Hungarian, Finnish, Turkish, Russian, Ukrainian, Chinese and Japanese workshops, from memory; every word in lower case,
without its number.
"""

from __future__ import annotations

import re
from itertools import pairwise

from nodrek.core.model import Corner
from nodrek.core.units import is_speed_spelling

_LEFT = (
    "left lft nearside links linke linker linkes gauche izquierda izquierdo izq izqda sinistra sinistro sin lewy lewa"
    " lewe lewego esquerda esquerdo esq linker vänster vanster levy leva levé levý leve lev kerb"
    " venstre bal vasen sol левое левый левая левого лев ліве лівий ліва"
)
_RIGHT = (
    "right rgt rght offside rechts rechte rechter rechtes droit droite derecha derecho der dcha destra destro prawy"
    " prawa prawe prawego direita direito höger hoger pravy prava prave pravý pravá pravé prav"
    " højre høyre jobb oikea sağ правое правый правая правого прав праве правий"
)
_FRONT = (
    "front frnt frt fwd fore forward vorn vorne vorder vorderachse avant delantera delantero delant anteriore"
    " anteriori przedni przednia przednie przod przód dianteira dianteiro diant voor voorste vooras fram framaxel"
    " främre framre predni přední"
    " foran forrest első elöl etu edessä ön переднее передний передняя переднего перед переднє передній"
)
_REAR = (
    "rear back aft hinten hinter hinterachse arriere arrière trasera trasero posteriore posteriori tylny tylna tylne"
    " tyl tył traseira traseiro achter achterste achteras bak bakaxel bakre zadni zadní"
    " bagest hátsó hátul taka takana arka заднее задний задняя заднего зад заднє задній"
)
SIDE = dict.fromkeys(_LEFT.split(), "L") | dict.fromkeys(_RIGHT.split(), "R")
END = dict.fromkeys(_FRONT.split(), "F") | dict.fromkeys(_REAR.split(), "R")
# letters that mean a side or an end only beside a word or letter for the other
_WEAK_SIDE = {
    **dict.fromkeys("l lh lhs lt li le g izq sx esq".split(), "L"),
    **dict.fromkeys("r rh rhs rt re ri d dx der dir".split(), "R"),
}
_WEAK_END = {
    **dict.fromkeys("f av ant del va vo fa".split(), "F"),
    **dict.fromkeys("r ar post pos tras ha hi ra b".split(), "R"),
}
LEAST_OF_SYSTEM = 3
_ORDER = (Corner.FL, Corner.FR, Corner.RL, Corner.RR)
_CODES = {
    code: corner
    for system in (
        "fl fr rl rr",
        "lf rf lr rr",
        "vl vr hl hr",
        "avg avd arg ard",
        "avga avdr arga ardr",
        "пл пп зл зп",
        "lhf rhf lhr rhr",
        "nsf osf nsr osr",
        "flw frw rlw rrw",
    )
    for code, corner in zip(system.split(), _ORDER, strict=True)
}
"""Two and three letters that name a corner wherever they stand alone."""
_SHORT_END = {"fr": "F", "frt": "F", "fnt": "F", "ft": "F", "re": "R", "rr": "R"}
"""Short ends that are something else alone: a side stands right behind them (``WhlFrL``, ``Whl_Re_Ri``), or a
plainer one before them (``LH_RR``)."""
_PLAIN_SIDE = {**SIDE, "lh": "L", "lhs": "L", "le": "L", "rh": "R", "rhs": "R", "ri": "R"}
_ANY_SIDE = {**_WEAK_SIDE, **SIDE}
_AXLE = re.compile(r"(?<![a-zà-ÿ])(?:axle|achse|essieu|eje|asse|oś|as|axel)[ _.]?([12])(?!\d)", re.IGNORECASE)
SYSTEMS = tuple(
    dict(zip(system.split(), _ORDER, strict=True))
    for system in (
        "di dd ti td", "as ad ps pd", "asx adx psx pdx", "lp pp lt pt", "pl pp tl tp", "de dd te td", "lv rv la ra",
        "vl vr al ar", "vf hf vb hb", "lp pp lz pz", "pl pp zl zp", "ei ed ti td", "fe fd te td", "li re hl hr",
        "fl fr bl br",
    )
)  # fmt: skip
"""Letters that could be anything else, and are believed only where three or four of one system stand together."""
_BY_AXLE = re.compile(
    r"(?<!\d)(?P<axle>[12])[ _.-]?(?P<side>left|right|[lr])(?![a-zà-ÿ\d])"
    r"|(?<![a-zà-ÿ\d])(?P<first>left|right|[lr])[ _.-]?(?P<then>[12])(?!\d)",
    re.IGNORECASE,
)
"""Axles counted from the front, and a side: ``1L``, ``R2``; believed like `SYSTEMS`."""
_BY_NUMBERS = re.compile(r"(?<![\d.,])(?P<axle>[12])(?P<side>[12])(?![\d.,])")
"""Axles counted from the front and wheels from the left, as in equations: ``omega_12``; believed where all four are."""
_DOTTED = re.compile(r"(?<![a-zà-ÿ])([a-z])\. ?([a-z])\.(?![a-zà-ÿ])", re.IGNORECASE)
"""``v.l.``, ``h. r.``."""
_SIDE_OF_THE_ROAD = re.compile(r"(?<![a-z])([no])/s(?![a-z])", re.IGNORECASE)
_GLUED = {
    "frontleft": Corner.FL, "leftfront": Corner.FL, "frontright": Corner.FR, "rightfront": Corner.FR,
    "rearleft": Corner.RL, "leftrear": Corner.RL, "rearright": Corner.RR, "rightrear": Corner.RR,
    "frntlft": Corner.FL, "frntrgt": Corner.FR, "rrlft": Corner.RL, "rrrgt": Corner.RR,
    "frtlft": Corner.FL, "frtrt": Corner.FR, "vornelinks": Corner.FL, "vornerechts": Corner.FR,
    "hintenlinks": Corner.RL, "hintenrechts": Corner.RR, "linksvoor": Corner.FL, "rechtsvoor": Corner.FR,
    "linkervoor": Corner.FL, "rechtervoor": Corner.FR, "linkerachter": Corner.RL, "rechterachter": Corner.RR,
    "linksachter": Corner.RL, "rechtsachter": Corner.RR, "vorderlinks": Corner.FL, "vorderrechts": Corner.FR,
    "左前": Corner.FL, "右前": Corner.FR, "左后": Corner.RL, "右后": Corner.RR, "左後": Corner.RL, "右後": Corner.RR,
    "前左": Corner.FL, "前右": Corner.FR, "后左": Corner.RL, "后右": Corner.RR, "後左": Corner.RL, "後右": Corner.RR,
    "lftfrnt": Corner.FL, "rgtfrnt": Corner.FR, "lftrear": Corner.RL, "rgtrear": Corner.RR,
}  # fmt: skip
CORNER_SCORE = 1.0
WHEEL_WORDS = frozenset(
    (
        "wheel wheels whl wss ws roue rueda ruota kolo koło koła roda wiel hjul rad kerék pyörä tekerlek колесо колеса"
    ).split()
)
SPEED_WORDS = frozenset(
    (
        "speed spd velocity vel wheelspeed wheelspd whlspd ws wss whl wheel v vx n kmh kph mph rpm abs esp velo whs "
        "geschwindigkeit geschw drehzahl radgeschwindigkeit rad rads raddrehzahl raddrehz vrad vitesse roue roues "
        "velocidad rueda velocita velocità ruota giri predkosc prędkość kolo koło kola obroty velocidade roda snelheid "
        "wiel wielsnelheid hastighet hjul hjulhastighet rychlost otacky otáčky rychl radgeschw wheelspeeds wheelspds "
        "скорость колесо колеса обороты швидкість kerék sebesség kerékfordulat pyörä nopeus tekerlek hızı hız "
        "hastighed whlgrndvlcty whlvel wheelvelocity whlspeed rotation"
    ).split()
)
OTHER_WORDS = frozenset(
    (
        "torque trq pressure press prs temp temperature slip angle height accel acceleration force load travel counter "
        "count cnt pulse pulses ticks tick edges edge valid validity status stat state flag quality qf ref reference "
        "target desired demand steering yaw current voltage volt direction dir dirn stdstill mean average diff "
        "difference druck moment drehmoment schlupf temperatur winkel hohe höhe beschleunigung kraft weg zähler zahler "
        "gültig pression couple glissement température compteur hauteur presion presión par deslizamiento temperatura "
        "contador altura pressione coppia slittamento contatore altezza cisnienie ciśnienie poslizg poślizg licznik "
        "pressao pressão deslizamento druk koppel hoogte teller tryck vridmoment höjd räknare tlak výška crc checksum "
        "alive rolling engine motor engrpm gear odometer distance range tpms inflation wear pad fluid "
        "vld vldty invalid err error errors fault faulty ungültig gueltig ungueltig fehler"
    ).split()
)
"""Words that make a channel something else than a wheel speed, whatever else it says."""
_SPEED_SIGNS, _OTHER_SIGNS = frozenset("速転转"), frozenset("压壓圧温溫力矩角荷高磨")
"""The same where words are not set apart."""
PART_WORDS = frozenset(
    (
        "brake brk tyre tire door seat window lamp bremse reifen pneu frein freno neumatico gomma opona hamulec däck "
        "remband band dveře belt mirror light spring damper suspension"
    ).split()
)
"""Parts that do so unless the name also speaks of speed ("brake control: wheel speed FL")."""


def words_of(name: str) -> list[str]:
    """Lower-case words: split at punctuation, camelCase and digits."""
    name = _DOTTED.sub(r" \1\2 ", name)
    name = _SIDE_OF_THE_ROAD.sub(lambda side: " nearside " if side[1] in "nN" else " offside ", name)
    spaced = re.sub(r"(?<=[a-zà-ÿа-яё0-9])(?=[A-ZÀ-ÞА-ЯЁ])|(?<=[A-Z])(?=[A-Z][a-z])", " ", name)
    words = [w for w in re.split(r"[^0-9a-zà-ÿœĀ-žа-яёіїєґ一-龥]+", spaced.lower()) if w]
    out: list[str] = []
    for word in words:
        parts = [p for p in re.split(r"\d+", word) if p] or [word]
        for part in parts:
            out.append(part)
            # wheelspeedfl, vfl, spdrr, lfws: the corner glued to the end or the beginning of a known word
            for code in ("fl", "fr", "rl", "rr", "vl", "vr", "hl", "hr", "lf", "rf", "lr"):
                for rest in (part.removesuffix(code), part.removeprefix(code)):
                    if rest != part and (rest in SPEED_WORDS or rest in OTHER_WORDS):
                        out += [rest, code]
    return out


def corner_of(name: str) -> Corner | None:
    """The corner that a channel's name tells, ``None`` where it tells none or more than one."""
    words = words_of(name)
    squeezed = "".join(words)
    for glued, corner in _GLUED.items():
        if glued in squeezed:
            return corner
    short = {_SHORT_END[a] + _ANY_SIDE[b] for a, b in pairwise(words) if a in _SHORT_END and b in _ANY_SIDE} or {
        _SHORT_END[b] + _PLAIN_SIDE[a] for a, b in pairwise(words) if a in _PLAIN_SIDE and b in _SHORT_END
    }
    if len(short) == 1:
        return Corner(short.pop())
    sides = {SIDE[w] for w in words if w in SIDE}
    ends = {END[w] for w in words if w in END}
    if not ends and (axle := _AXLE.search(name)):
        ends = {"F" if axle[1] == "1" else "R"}
    if len(sides) == 1 and len(ends) == 1:
        return Corner(ends.pop() + sides.pop())
    codes = {_CODES[w] for w in words if w in _CODES}
    if len(codes) == 1 and not sides:
        return codes.pop()
    if len(ends) == 1 and not sides:
        sides = {_WEAK_SIDE[w] for w in words if w in _WEAK_SIDE}
    elif len(sides) == 1 and not ends:
        ends = {_WEAK_END[w] for w in words if w in _WEAK_END}
    else:
        # "F L", "R-R", "L/R": letters side by side, in either order
        both = _ANY_SIDE, {**_WEAK_END, **END}
        found = {both[1][a] + both[0][b] for a, b in pairwise(words) if a in both[1] and b in both[0]} or {
            both[1][b] + both[0][a] for a, b in pairwise(words) if a in both[0] and b in both[1]
        }
        return Corner(found.pop()) if len(found) == 1 else None
    if len(sides) == 1 and len(ends) == 1:
        return Corner(ends.pop() + sides.pop())
    return None


def corners_by_system(names: list[str]) -> dict[str, Corner]:
    """Corners of names that only make sense together: ``v_di, v_dd, v_ti, v_td``.

    Only whole systems of abbreviations are believed: three codes or more of one system
    in names that are otherwise the same.
    """
    out: dict[str, Corner] = {}
    systems = (_by_codes(names, system) for system in SYSTEMS)
    in_figures = {s: found for s, found in _by_axle_number(names, _BY_NUMBERS).items() if len(found) == len(Corner)}
    for by_stem in (_by_axle_number(names, _BY_AXLE), in_figures, *systems):
        for found in by_stem.values():
            if len(set(found.values())) == len(found) >= LEAST_OF_SYSTEM:
                for name, corner in found.items():
                    out.setdefault(name, corner)
    return out


def _by_codes(names: list[str], system: dict[str, Corner]) -> dict[str, dict[str, Corner]]:
    """Names with one code of a system in them, and their corners, by what else they say."""
    by_stem: dict[str, dict[str, Corner]] = {}
    for name in names:
        words = words_of(name)
        codes = [w for w in words if w in system]
        if len(codes) == 1:
            stem = " ".join(w for w in words if w != codes[0])
            by_stem.setdefault(stem, {})[name] = system[codes[0]]
    return by_stem


def _by_axle_number(names: list[str], pattern: re.Pattern[str]) -> dict[str, dict[str, Corner]]:
    """Names with the number of an axle and a side in them, likewise."""
    by_stem: dict[str, dict[str, Corner]] = {}
    for name in names:
        if match := pattern.search(name):
            told = {key: said for key, said in match.groupdict().items() if said}
            end = "F" if (told.get("axle") or told["then"]) == "1" else "R"
            side = "L" if (told.get("side") or told["first"])[0] in "lL1" else "R"
            by_stem.setdefault(name[: match.start()] + name[match.end() :], {})[name] = Corner(end + side)
    return by_stem


def speed_score(name: str, unit: str | None) -> float:
    """How much a name and unit sound like a wheel speed: 0 not at all, 5 beyond doubt."""
    words = set(words_of(name))
    speaks_of_speed = bool(words & SPEED_WORDS or _SPEED_SIGNS & set(name))
    if words & OTHER_WORDS or _OTHER_SIGNS & set(name) or (words & PART_WORDS and not speaks_of_speed):
        return 0.0
    score = 1.0
    if speaks_of_speed:
        score += 2.0
    if unit is not None:
        if not is_speed_spelling(unit):
            return 0.0
        score += 2.0
    return score


def sounds_like_wheel_speed(name: str) -> bool:
    """Whether a channel is worth reading out of thousands: by name alone, generously."""
    return speed_score(name, None) >= CORNER_SCORE and (corner_of(name) is not None or _speaks_of_wheels(name))


def _speaks_of_wheels(name: str) -> bool:
    words = set(words_of(name))
    return bool(words & WHEEL_WORDS) or any(s in "".join(words) for s in ("wheel", "whl", "rad", "roue"))


def stem_of(name: str) -> str:
    """The name without what tells the corner: channels of one set share it."""
    kept = [
        w for w in words_of(name)
        if w not in _CODES and w not in SIDE and w not in END and not any(g in w for g in _GLUED)
    ]  # fmt: skip
    return " ".join(kept)


_TURN_WORDS = frozenset(
    (
        "yaw yawrate steering steer steerangle swa gierrate gierwinkelgeschwindigkeit lenkwinkel lenkradwinkel lenkrad"
        " lacet volant braquage guinada volante sterzo imbardata skret skręt kierownica stuur stuurhoek ratt"
        " rattvinkel giering volantu"
    ).split()
)
_NO_TURN_WORDS = frozenset("torque moment couple trq valid status quality accel acceleration offset speed".split())


def turns_the_vehicle(name: str) -> bool:
    """Whether a channel's name says that it is a yaw rate or a steering angle."""
    words = set(words_of(name))
    return bool(words & _TURN_WORDS) and not words & _NO_TURN_WORDS
