"""Reads metrics on standard input with the parsers of the Python client of Prometheus, and prints the samples as JSON.

    python3 read_metrics.py openmetrics|text
"""

import json
import sys

if sys.argv[1] == "openmetrics":
    from prometheus_client.openmetrics.parser import text_string_to_metric_families
else:
    from prometheus_client.parser import text_string_to_metric_families

samples = {}
for family in text_string_to_metric_families(sys.stdin.read()):
    for sample in family.samples:
        labels = ",".join(f"{name}={value}" for name, value in sorted(sample.labels.items()))
        samples[f"{sample.name}{{{labels}}}"] = sample.value
print(json.dumps(samples))
