"""Habits of loggers, one by one: the same drive written their way must come back the same."""

from __future__ import annotations

import gzip
import io
import json
import zipfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs.read import read_log

ROWS = 120
TIME = np.arange(ROWS) * 0.05
SPEEDS = {c: 40 + 9 * np.sin(TIME + k) + k for k, c in enumerate(Corner)}


def rows(form: Callable[[int], list[str]], separator: str = ",") -> str:
    return "\n".join(separator.join(form(k)) for k in range(ROWS)) + "\n"


def speeds(k: int, digits: int = 2) -> list[str]:
    return [f"{SPEEDS[c][k]:.{digits}f}" for c in Corner]


def clock(seconds: float, mark: str = ".") -> str:
    whole = int(seconds)
    return f"{whole // 3600 % 24:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}{mark}{round(seconds % 1 * 1000):03d}"


def named(k: int) -> dict[str, float]:
    return {f"{c}_kmh": float(SPEEDS[c][k]) for c in Corner}


def pairs(k: int, form: str) -> list[str]:
    return [form.format(f"{c}_kmh", s) for c, s in zip(Corner, speeds(k), strict=True)]


NAMES = "FL [km/h],FR [km/h],RL [km/h],RR [km/h]"
SEMI = NAMES.replace(",", ";")

DIALECTS: dict[str, str | bytes] = {
    "clock time": f"Time,{NAMES}\n" + rows(lambda k: [clock(45000 + TIME[k]), *speeds(k)]),
    "clock with decimal comma": f"Zeit;{SEMI}\n"
    + rows(lambda k: [clock(45000 + TIME[k], ","), *(s.replace(".", ",") for s in speeds(k))], ";"),
    "midnight": f"Time,{NAMES}\n" + rows(lambda k: [clock((86398 + TIME[k]) % 86400), *speeds(k)]),
    "date and time": f"Date time,{NAMES}\n" + rows(lambda k: [f"2026-05-03 {clock(45000 + TIME[k])}", *speeds(k)]),
    "ISO with zone": f"timestamp,{NAMES}\n"
    + rows(lambda k: [f"2026-05-03T{clock(45000 + TIME[k])}+02:00", *speeds(k)]),
    "ISO with Z": f"timestamp,{NAMES}\n" + rows(lambda k: [f"2026-05-03T{clock(45000 + TIME[k])}Z", *speeds(k)]),
    "day first": f"Datum/Uhrzeit;{SEMI}\n"
    + rows(lambda k: [f"03.05.2026 {clock(45000 + TIME[k])}", *speeds(k)], ";"),
    "minutes and seconds": f"time,{NAMES}\n"
    + rows(lambda k: [f"{int(TIME[k]) // 60:02d}:{TIME[k] % 60:06.3f}", *speeds(k)]),
    "epoch seconds": f"epoch,{NAMES}\n" + rows(lambda k: [f"{1.76e9 + TIME[k]:.3f}", *speeds(k)]),
    "epoch milliseconds": f"timestamp,{NAMES}\n" + rows(lambda k: [f"{1.76e12 + 1e3 * TIME[k]:.0f}", *speeds(k)]),
    "steps of 100 ns since year 1": f"ticks,{NAMES}\n" + rows(
        lambda k: [f"{639081000000000000 + round(1e7 * TIME[k])}", *speeds(k)]
    ),
    "steps of 100 ns since 1601": f"timestamp,{NAMES}\n" + rows(
        lambda k: [f"{134185125000000000 + round(1e7 * TIME[k])}", *speeds(k)]
    ),
    "epoch microseconds": f"timestamp,{NAMES}\n" + rows(lambda k: [f"{1.76e15 + 1e6 * TIME[k]:.0f}", *speeds(k)]),
    "milliseconds in the name": f"time_ms,{NAMES}\n" + rows(lambda k: [f"{1e3 * TIME[k]:.0f}", *speeds(k)]),
    "grouped thousands": f"time [ms];{SEMI}\n" + rows(lambda k: [f"{1e3 * TIME[k]:,.1f}", *speeds(k)], ";"),
    "grouped by point": f"time [ms];{SEMI}\n"
    + rows(
        lambda k: [
            f"{1e3 * TIME[k]:,.1f}".translate(str.maketrans(",.", ".,")),
            *(s.replace(".", ",") for s in speeds(k)),
        ],
        ";",
    ),
    "words for nothing": f"time [s],{NAMES},note\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k), ("N/A", "---", "NaN", "")[k % 4]]),
    "comment lines": "# drive 3\n# van\n" + f"# time [s],{NAMES}\n" + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)]),
    "long preamble": "".join(f"Setting {k}: some words; more, words\n" for k in range(200))
    + f"time [s],{NAMES}\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)]),
    "a row of kinds below the units": "time;FL;FR;RL;RR\ns;km/h;km/h;km/h;km/h\nfloat64;float;float;float;float\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)], ";"),
    "a section a channel": "logger 5\n"
    + "\n".join(
        f"[{c}]\ntime,value [km/h]\n" + rows(lambda k, c=c: [f"{TIME[k]:.2f}", f"{SPEEDS[c][k]:.2f}"]) for c in Corner
    ),
    "a section a raster, among others": "# engine\ntime [s];load [%]\n"
    + rows(lambda k: [f"{2 * TIME[k]:.2f}", f"{k % 9}"], ";")
    + f"# brakes\ntime [s];{SEMI}\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)], ";")
    + "end of the log\n",
    "unit row in brackets": "time;FL;FR;RL;RR\n[s];[km/h];[km/h];[km/h];[km/h]\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)], ";"),
    "quoted with separators in the names": '"time [s]","Wheel speed, FL [km/h]","Wheel speed, FR [km/h]",'
    '"Wheel speed, RL [km/h]","Wheel speed, RR [km/h]"\n'
    + rows(lambda k: [f'"{TIME[k]:.2f}"', *(f'"{s}"' for s in speeds(k))]),
    "trailing separator": f"time [s],{NAMES},\n" + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k), ""]),
    "two hundred other columns": "time [s],"
    + ",".join(f"Signal {k} [V]" for k in range(200))
    + f",{NAMES}\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *(str((k * j) % 7) for j in range(200)), *speeds(k)]),
    "a clock for each channel": "t_FL,FL [km/h],t_FR,FR [km/h],t_RL,RL [km/h],t_RR,RR [km/h]\n"
    + rows(lambda k: [x for s in speeds(k) for x in (f"{TIME[k]:.2f}", s)]),
    "long": "time [s],signal,value [km/h]\n"
    + "".join(
        f"{TIME[k]:.2f},wheel speed {c},{SPEEDS[c][k]:.2f}\n" for k in range(ROWS) for c in Corner
    ),
    "long, name first, with units": "channel;time;value;unit\n"
    + "".join(f"{c};{TIME[k]:.2f};{SPEEDS[c][k]:.2f};km/h\n" for k in range(ROWS) for c in Corner),
    "sparse": f"time [s],{NAMES}\n"
    + "".join(
        f"{TIME[k]:.2f}," + ",".join(f"{SPEEDS[c][k]:.2f}" if j == i else "" for j, c in enumerate(Corner)) + "\n"
        for k in range(ROWS)
        for i in range(4)
    ),
    "UTF-16 without a mark": (f"time [s],{NAMES}\n" + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)])).encode(
        "utf-16-le"
    ),
    "UTF-16 big end first": b"\xfe\xff"
    + (f"time [s],{NAMES}\n" + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)])).encode("utf-16-be"),
    "long form with a remark below": "time [s];Channel;Value;Unit\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", "Wheel speed FL", speeds(k)[0], '"km/h"'], "; ")
    + rows(lambda k: [f"{TIME[k]:.2f}", "Wheel speed FR", speeds(k)[1], '"km/h"'], "; ")
    + rows(lambda k: [f"{TIME[k]:.2f}", "Wheel speed RL", speeds(k)[2], '"km/h"'], "; ")
    + rows(lambda k: [f"{TIME[k]:.2f}", "Wheel speed RR", speeds(k)[3], '"km/h"'], "; ")
    + "End of log\n",
    "units after a comma": '"Time, s";"FL, km/h";"FR, km/h";"RL, km/h";"RR, km/h"\n'
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)], ";"),
    "a count of rows, and their rate above": f"# Vehicle 14, sample rate: 20 Hz\nSample,{NAMES}\n"
    + rows(lambda k: [str(k + 7), *speeds(k)]),
    "no clock, the interval above": f"Abtastintervall [ms];50 ms\n{SEMI}\n" + rows(speeds, ";"),
    "names in a remark": "% drive of the post van\n% time FL FR RL RR\n% [s] km/h km/h km/h km/h\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)], " "),
    "stamps in brackets before names and values": rows(
        lambda k: [f"[{clock(45000 + TIME[k])}] INFO wheels", *pairs(k, "{}={}")], " "
    ),
    "days": f"time [d],{NAMES}\n" + rows(lambda k: [f"{TIME[k] / 86400:.10f}", *speeds(k)]),
    "codes, words and units in long form": "Time,PID,Name,Value,Units\n"
    + "".join(
        rows(lambda k, n=n, words=words: [f"{TIME[k]:.2f}", f"22F40{n}", f"{words} wheel speed", speeds(k)[n], "km/h"])
        for n, words in enumerate(("Left front", "Right front", "Left rear", "Right rear"))
    ),
    "axle, side and state in long form": "Time,Axle,Side,State,Wheel speed [km/h]\n"
    + "".join(
        rows(lambda k, n=n, ends=ends: [f"{TIME[k]:.2f}", *ends, "warm" if k % 9 == 4 else "ok", speeds(k)[n]])
        for n, ends in enumerate((("front", "left"), ("front", "right"), ("rear", "left"), ("rear", "right")))
    ),
    "milliseconds since the start of the logger": f"millis,{NAMES}\n"
    + rows(lambda k: [str(987654321 + round(1000 * TIME[k])), *speeds(k)]),
    "a table of facts above": f"Teeth,48,48,48,48\nPressure,2.3,2.3,2.2,2.2\nWidth,205,205,205,205\ntime,{NAMES}\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)]),
    "a line for each value": "".join(
        f"Time: {TIME[k]:.2f} s\n"
        + "".join(f"Wheel speed {c.value}: {s} km/h\n" for c, s in zip(Corner, speeds(k), strict=True)) + "\n"
        for k in range(ROWS)
    ),
    "a stamp above each block": "".join(
        f"--- {clock(45000 + TIME[k])} ---\n"
        + "".join(f"{c.value} = {s} km/h\n" for c, s in zip(Corner, speeds(k), strict=True))
        for k in range(ROWS)
    ),
    "a list of blocks": "".join(
        f"- t: {TIME[k]:.2f}\n" + "".join(f"  {c.value}_kmh: {s}\n" for c, s in zip(Corner, speeds(k), strict=True))
        for k in range(ROWS)
    ),
    "elements": "<log>\n"
    + rows(
        lambda k: [
            f"<row><time>{TIME[k]:.2f}</time>",
            *(f"<{c.value}_kmh>{s}</{c.value}_kmh>" for c, s in zip(Corner, speeds(k), strict=True)), "</row>",
        ], "",
    ) + "</log>\n",
    "newest row first": f"time [s],{NAMES}\n" + rows(lambda k: [f"{TIME[-1 - k]:.2f}", *speeds(ROWS - 1 - k)]),
    "whole seconds and milliseconds apart": f"Date,Time,ms,{NAMES}\n"
    + rows(
        lambda k: ["2026-05-03", clock(45000 + TIME[k])[:8], f"{round(TIME[k] % 1 * 1000)}", *speeds(k)]
    ),
    "whole seconds and milliseconds apart, past midnight": f"Time,ms,{NAMES}\n"
    + rows(lambda k: [clock((86398 + TIME[k]) % 86400)[:8], f"{round(TIME[k] % 1 * 1000)}", *speeds(k)]),
    "seconds and nanoseconds apart": f"sec,nanosec,{NAMES}\n"
    + rows(lambda k: [f"{1777777777 + int(TIME[k])}", f"{round(TIME[k] % 1 * 1000)}000000", *speeds(k)]),
    "a blank line after each row": f"time [s],{NAMES}\n\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)]).replace("\n", "\n\n"),
    "ISO, basic format": f"timestamp,{NAMES}\n"
    + rows(lambda k: [f"20260503T{clock(45000 + TIME[k]).replace(':', '')}Z", *speeds(k)]),
    "empty cells behind the names": f"time [s];{SEMI};;;\n" + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)], ";"),
    "names broken into lines": 'time [s],"wheel\nFL [km/h]","wheel\nFR [km/h]","wheel\nRL [km/h]","wheel\nRR [km/h]"\n'
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)]),
    "a printed minus": f"time [s],{NAMES}\n"
    + rows(lambda k: [f"{TIME[k] - 3:.2f}".replace("-", "\u2212"), *speeds(k)]),
    "zeros behind the last row": f"time [s],{NAMES}\n" + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)]) + "\0" * 700,
    "rows that swapped places": f"time [s],{NAMES}\n"
    + rows(lambda k: [f"{TIME[k ^ (k % 8 < 2)]:.2f}", *speeds(k ^ (k % 8 < 2))]),
    "a decimal comma between commas": f"time [s],{NAMES}\n"
    + rows(lambda k: [f"{TIME[k]:.2f}".replace(".", ","), *(s.replace(".", ",") for s in speeds(k))]),
    "a rare separator": f"time [s],wheel {NAMES}\n".replace(",", "^")
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)], "^"),
    "a table of a web page": "<html><table><tr><th>time [s]</th><th>"
    + NAMES.replace(",", "</th><th>") + "</th></tr>\n"
    + rows(lambda k: ["<tr><td>" + "</td><td>".join([f"{TIME[k]:.2f}", *speeds(k)]) + "</td></tr>"])
    + "</table></html>\n",
    "units glued to the values": f"time,{NAMES}\n" + rows(lambda k: [f"{TIME[k]:.2f}s", *speeds(k)]),
    "an arrow before names and values": rows(lambda k: [f"{TIME[k]:.2f} ->", *pairs(k, "{}:{}")], " "),
    "the time behind names and values": rows(
        lambda k: ["wheels,van=14", *pairs(k, "{}={}"), f"{1777777777000000000 + round(TIME[k] * 1e9)}"], " "
    ),
    "stamps in brackets": f"[time s],{NAMES}\n" + rows(lambda k: [f"[{TIME[k]:.2f}]", *speeds(k)]),
    "stamps since the start": f"time;{SEMI}\n" + rows(lambda k: [f"T+{TIME[k]:.2f}", *speeds(k)], ";"),
    "Cyrillic code page": (
        "Время, с;Скорость колеса ПЛ;Скорость колеса ПП;Скорость колеса ЗЛ;Скорость колеса ЗП\n"
        + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)], ";")
    ).encode("cp1251"),
    "Latin-1": (f"time [s],température [°C],{NAMES}\n" + rows(lambda k: [f"{TIME[k]:.2f}", "20", *speeds(k)])).encode(
        "latin-1"
    ),
    "units after an underscore": "time_s,FL_kmh,FR_kmh,RL_kmh,RR_kmh\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)]),
    "units in braces": "time {s},FL {km/h},FR {km/h},RL {km/h},RR {km/h}\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)]),
    "padded": f"  time [s] , {NAMES.replace(',', ' , ')}\n"
    + rows(lambda k: [f" {TIME[k]:.2f} ", *(f"  {s}" for s in speeds(k))]),
    "units in the cells": "time,FL,FR,RL,RR\n"
    + rows(lambda k: [f"{TIME[k]:.2f} s", *(f"{s} km/h" for s in speeds(k))]),
    "carriage returns alone": (
        f"time [s],{NAMES}\n" + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)])
    ).replace("\n", "\r"),
    "columns of spaces": "  time_s   FL_kmh   FR_kmh   RL_kmh   RR_kmh\n"
    + rows(lambda k: [f"{TIME[k]:9.2f}", *(f"{s:>9s}" for s in speeds(k))], ""),
    "quoted decimal commas": f"time [s],{NAMES}\n"
    + rows(lambda k: ['"' + x.replace(".", ",") + '"' for x in (f"{TIME[k]:.2f}", *speeds(k))]),
    "whole milliseconds grouped, late in the log": f"time [ms];{SEMI}\n"
    + rows(lambda k: [f"{1e3 * TIME[k]:,.0f}".replace(",", "."), *(s.replace(".", ",") for s in speeds(k))], ";"),
    "corners in brackets": "time [s],Wheel speed (front left),Wheel speed (front right),Wheel speed (rear left),"
    "Wheel speed (rear right)\n" + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)]),
    "axles above the sides": ",front axle,,rear axle,\ntime,left,right,left,right\ns,km/h,km/h,km/h,km/h\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)]),
    "afternoon": f"Time,{NAMES}\n"
    + rows(lambda k: [f"{(45000 + int(TIME[k])) // 3600 - 12:02d}:{(45000 + int(TIME[k])) // 60 % 60:02d}:"
                      f"{(45000 + TIME[k]) % 60:06.3f} PM", *speeds(k)]),
    "an object a line": rows(lambda k: [json.dumps({"t": TIME[k], **named(k)})]),
    "an object a line, wheels within": rows(
        lambda k: [json.dumps({"meta": {"ok": True}, "time_s": TIME[k], "wheels": named(k)})]
    ),
    "an object a value": "".join(
        json.dumps({"time": TIME[k], "signal": f"{c}_kmh", "value": SPEEDS[c][k]}) + "\n"
        for k in range(ROWS) for c in Corner
    ),
    "a list of objects": json.dumps(
        {"vehicle": "van", "rows": [{"ms": 1e3 * TIME[k], **named(k)} for k in range(ROWS)]}
    ),
    "an object of lists": json.dumps(
        {"time [s]": TIME.tolist(), "speeds": {f"{c} [km/h]": SPEEDS[c].tolist() for c in Corner}}, indent=1
    ),
    "lists of their own clocks": json.dumps(
        {f"{c}": {"time": TIME.tolist(), "km/h": SPEEDS[c].tolist()} for c in Corner}
    ),
    "rows under names": json.dumps([["time", *named(0)], *([TIME[k], *named(k).values()] for k in range(ROWS))]),
    "cut in the last line": rows(lambda k: [json.dumps({"t": TIME[k], **named(k)})]) + '{"t": 9.0, "FL',
    "words in quotes beside the values": rows(
        lambda k: [json.dumps({"t": TIME[k], **named(k), "said": 'it is "not\n so', "at\t": [1, "\ud800"]})]
    ),
    "names and values": rows(lambda k: [f"t={TIME[k]:.2f}", *pairs(k, "{}={}")], " "),
    "names and values after a stamp": "logger 7\n"
    + rows(lambda k: [f"[{clock(45000 + TIME[k])}] INFO wheels", *pairs(k, "{}: {} km/h")], " "),
    "names and decimal commas": rows(
        lambda k: [f"t={TIME[k]:.2f}".replace(".", ","), *(p.replace(".", ",") for p in pairs(k, "{} = {}"))], ", "
    ),
    "names and values, one a line": "".join(
        f"time: {TIME[k]:.2f}; signal: {c}_kmh; value: {SPEEDS[c][k]:.2f}\n" for k in range(ROWS) for c in Corner
    ),
    "names after a date with points": rows(
        lambda k: [f"t=03.05.2026 {clock(45000 + TIME[k])}", *pairs(k, "{}={} km/h")], "; "
    ),
    "one channel below the other, an accent late": "signal;temps;valeur [km/h]\n".encode("cp1252")
    + "".join(
        f"vitesse roue {name};{TIME[k]:.2f};{SPEEDS[c][k]:.2f}\n".replace(".", ",")
        for c, name in zip(Corner, ("avant gauche", "avant droite", "arrière gauche", "arrière droite"), strict=True)
        for k in range(ROWS)
    ).encode("cp1252") + b"# end\n",
    "a table a channel, in two bytes a letter": "".join(
        f"WS_{c} [km/h]\nms\tvalue\n" + "".join(f"{50 * k}\t{v:.2f}\n" for k, v in enumerate(SPEEDS[c])) + "\n"
        for c in Corner
    ).encode("utf-16"),
    "long, without names, four to a stamp": "".join(
        f"{TIME[k]:.2f}|{c}|{SPEEDS[c][k]:.2f} km/h\n" for k in range(ROWS) for c in Corner
    ),
    "long, without names, in milliseconds": "".join(
        f"{7000 + 1e3 * TIME[k] + n:.0f};{c};{SPEEDS[c][k]:.2f} km/h\n"
        for k in range(ROWS) for n, c in enumerate(Corner)
    ),
    "quotes and spaces": f'"Time [s]", {NAMES}\n'
    + rows(lambda k: [f'"{x}"'.replace(".", ",") for x in (f"{TIME[k]:.2f}", *speeds(k))], ", "),
    "decimal commas between commas and spaces": f"Time [s],{NAMES}\n".replace(",", ", ")
    + rows(lambda k: [x.replace(".", ",") for x in (f"{TIME[k]:.2f}", *speeds(k))], ", "),
    "columns of spaces, decimal commas": "time   FL_kmh   FR_kmh   RL_kmh   RR_kmh\n"
    + rows(lambda k: [f"{x:>9s}".replace(".", ",") for x in (f"{TIME[k]:.2f}", *speeds(k))], " "),
    "quoted decimal commas, three digits behind each": f"ms,{NAMES}\n"
    + rows(lambda k: [f"{50 * k}", *('"' + x.replace(".", ",") + '"' for x in speeds(k, 3))]),
    "decimal commas between commas, whole milliseconds": f"ms,{NAMES}\n"
    + rows(lambda k: [f"{50 * k}", *(x.replace(".", ",") for x in speeds(k))]),
    "decimal commas between commas, clock": f"time,{NAMES}\n"
    + rows(lambda k: [clock(45000 + TIME[k]), *(x.replace(".", ",") for x in speeds(k))]),
    "axles by number": "time;wheel speed 1L [km/h];wheel speed 1R [km/h];wheel speed 2L [km/h];wheel speed 2R [km/h]\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)], ";"),
    "a remark in one row, and a gear": f"time;{SEMI};event;gear\n"
    + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k), '"pothole; left"' if k == 40 else "", "N" if k < 2 else "D"], ";"),
    "a remark among the rows": f"time,{NAMES}\n"
    + rows(lambda k: ["# bump\n" * (k == 60) + f"{TIME[k]:.2f}", *speeds(k)]),
    "names again, and a mark": "logger 7\nvan\n"
    + rows(
        lambda k: [f"time;{SEMI}\n" * (k % 40 == 0) + "MARK;7\n" * (k == 60) + f"{TIME[k]:.2f}", *speeds(k)], ";"
    ),
    "marks in front of the clock": f"mark;time;{SEMI}\n"
    + rows(lambda k: ["bump" if k % 40 == 7 else "", f"{TIME[k]:.2f}", *speeds(k)], ";"),
    "a summary below, columns numbered": f"No.;Time;{SEMI}\n"
    + rows(lambda k: [f"{k + 1}", f"{TIME[k]:.2f}", *speeds(k)], ";") + "Min;0;0;0;0;0\nMax;99;99;99;99;99\n",
    "nothing is read at first, then with units": "ms;FL;FR;RL;RR\n"
    + "".join(f"{50 * k - 5000};;;;\n" for k in range(100))
    + rows(lambda k: [f"{1e3 * TIME[k]:.0f}", *(f"{s} km/h" for s in speeds(k))], ";"),
}  # fmt: skip


def check(raw: RawLog) -> None:
    """The four speeds, in km/h, at their times from the first sample."""
    log = map_corners(raw)
    assert list(log.corners) == list(Corner)
    for corner, channel in log.channels.items():
        assert channel.unit == "km/h"
        np.testing.assert_allclose(channel.times - channel.times[0], TIME, atol=2e-3)
        np.testing.assert_allclose(channel.speed * 3.6, SPEEDS[corner], atol=0.006)


@pytest.mark.parametrize("name", DIALECTS)
def test_a_dialect_is_read_right(tmp_path: Path, name: str) -> None:
    content = DIALECTS[name]
    path = tmp_path / "log.csv"
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    check(read_log(path))


@pytest.mark.parametrize(
    ("above", "unit"), [("All speeds in mph", "mph"), ("# Wheels: km/h, vehicle: mph", None), ("Limit 3 m/s²", None)]
)
def test_a_unit_of_speed_that_is_stated_above_counts(tmp_path: Path, above: str, unit: str | None) -> None:
    (tmp_path / "log.csv").write_text(f"{above}\ntime,FL,FR\n" + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)[:2]]))
    assert {c.unit for c in read_log(tmp_path / "log.csv").channels} == {unit}


PLAIN = f"time [s],{NAMES}\n" + rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)])


def test_gzip_and_zip_are_seen_through(tmp_path: Path) -> None:
    packed = tmp_path / "log.csv.gz"
    packed.write_bytes(gzip.compress(PLAIN.encode()))
    check(read_log(packed))
    archive = tmp_path / "logs.zip"
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr("readme.txt", "the drive of van 3\n" * 40)
        out.writestr("../../evil/log.csv", PLAIN)
    check(read_log(archive))
    assert sorted(p.name for p in tmp_path.iterdir()) == ["log.csv.gz", "logs.zip"]


def test_several_logs_in_one_archive_are_named(tmp_path: Path) -> None:
    archive = tmp_path / "logs.zip"
    with zipfile.ZipFile(archive, "w") as out:
        out.writestr("long.csv", PLAIN)
        out.writestr("short.csv", PLAIN[: len(PLAIN) // 2].rsplit("\n", 1)[0])
    raw = read_log(archive)
    check(raw)
    assert any("short.csv" in w for w in raw.warnings)


def bombs() -> dict[str, bytes]:
    zeros = b"0,0,0\n" * (8 * 1024 * 1024)
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr("log.csv", zeros)
    whole = gzip.compress(PLAIN.encode())
    return {
        "bomb.gz": gzip.compress(zeros),
        "bomb.zip": stream.getvalue(),
        "cut.gz": whole[: len(whole) // 2],
        "cut.zip": stream.getvalue()[:2000],
        "hollow.zip": b"PK\x05\x06" + bytes(18),
        "name.zip": stream.getvalue()
        .replace(b"log.csv", b"lo\x97.csv")
        .replace(b"\x14\x00\x00\x00", b"\x14\x00\x00\x08"),
    }


@pytest.mark.parametrize("name", ["bomb.gz", "bomb.zip", "cut.gz", "cut.zip", "hollow.zip", "name.zip"])
def test_bombs_and_damage_are_refused(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    path.write_bytes(bombs()[name])
    with pytest.raises(UnreadableFile):
        read_log(path)


@pytest.mark.parametrize(
    "content",
    ["[" * 100_000, '{"a":' * 50_000 + "1" + "}" * 50_000, "{}", "[[1, 2], [3, 4]]", '{"t": 0.1, "FL": \n' * 9,
     '{"t": "\\ud800", "FL": "\\ud801"}\n' * 40, '{"t": 1, "FL": ' + "[" * 900 + "]" * 900 + "}",
     "\n".join(f'{{"t": {k}, "x{k}": 1}}' for k in range(5_000)), "key: value, other: thing\n" * 40],
)  # fmt: skip
def test_named_values_that_are_no_log_are_refused(tmp_path: Path, content: str) -> None:
    path = tmp_path / "log.json"
    path.write_text(content)
    with pytest.raises(UnreadableFile):
        read_log(path)


def test_a_section_that_is_no_table_is_left_out_and_said(tmp_path: Path) -> None:
    """The first one has no words above it, the second nothing but signs, the third no time."""
    bare = rows(lambda k: [f"{TIME[k]:.2f}", *speeds(k)])
    path = tmp_path / "log.csv"
    path.write_text(f"{bare}=== 5\n{bare}# brakes\ntime [s],{NAMES}\n{bare}[notes]\na,b\n" + "4,5\n" * 20)
    raw = read_log(path)
    assert any('"notes" was left out' in w for w in raw.warnings)
    assert {"FL", "FR", "RL", "RR"} <= {c.name for c in raw.channels}


def test_a_spoilt_line_among_many_is_left_out_and_said(tmp_path: Path) -> None:
    lines = str(DIALECTS["an object a line"]).splitlines()
    path = tmp_path / "log.json"
    path.write_text("\n".join([*lines[:60], lines[60][:20], *lines[60:]]))
    raw = read_log(path)
    check(raw)
    assert any("line 61" in w for w in raw.warnings)


def test_a_truncated_log_is_read_up_to_the_break(tmp_path: Path) -> None:
    path = tmp_path / "cut.csv"
    path.write_text(PLAIN[: int(len(PLAIN) * 0.6)])
    raw = read_log(path)
    assert 60 < raw.channels[0].values.size < ROWS
