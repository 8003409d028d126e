"""Says on which days and at which instants rhythms are: by dateutil's recurrence (RFC 5545 §3.3.10) and zoneinfo.

Reads JSON lines {unit, every, day, from, at, until, zone}, and writes for each a line: a list of [day, seconds since 1970].
"""

import json
import sys
from datetime import date, datetime
from zoneinfo import ZoneInfo

from dateutil.rrule import DAILY, MONTHLY, WEEKLY, rrule

UNITS = {"day": DAILY, "week": WEEKLY, "month": MONTHLY}

for line in sys.stdin:
    asked = json.loads(line)
    rule = {}
    if asked["unit"] == "week":
        rule["byweekday"] = asked["day"] - 1
        # Weeks are counted from that of the first date: they begin with its day.
        start = datetime.combine(date.fromisoformat(asked["from"]), datetime.min.time())
        rule["wkst"] = start.weekday()
    if asked["unit"] == "month":
        # The last of these days that a month has.
        rule["bymonthday"] = list(range(min(28, asked["day"]), asked["day"] + 1))
        rule["bysetpos"] = -1
    days = rrule(
        UNITS[asked["unit"]],
        interval=asked["every"],
        dtstart=datetime.combine(date.fromisoformat(asked["from"]), datetime.min.time()),
        until=datetime.fromisoformat(asked["until"]),
        **rule,
    )
    hour, minute = map(int, asked["at"].split(":"))
    zone = ZoneInfo(asked["zone"])
    print(json.dumps([
        [day.date().isoformat(), int(day.replace(hour=hour, minute=minute, tzinfo=zone, fold=0).timestamp())]
        for day in days
    ]))
