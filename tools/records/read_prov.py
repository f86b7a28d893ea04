"""Reads PROV-JSON with PyPI's `prov` and says each activity with what it used and generated, and each derivation, by labels.

    python read_prov.py FILE.prov.json
"""

import sys

from prov import model


def main():
    document = model.ProvDocument.deserialize(sys.argv[1], format="json")
    labels = {}
    for record in document.get_records((model.ProvEntity, model.ProvActivity)):
        (labels[record.identifier],) = record.get_attribute("prov:label")
    used, generated, lines = {}, {}, []
    for record in document.get_records(model.ProvUsage):
        activity, entity = record.args[:2]
        used.setdefault(activity, set()).add(labels[entity])
    for record in document.get_records(model.ProvGeneration):
        entity, activity = record.args[:2]
        generated.setdefault(activity, set()).add(labels[entity])
    for activity in document.get_records(model.ProvActivity):
        assert activity.get_startTime() <= activity.get_endTime()
        name = activity.identifier
        inputs = ", ".join(sorted(used.get(name, ())))
        outputs = ", ".join(sorted(generated[name]))
        lines.append(f"{labels[name]}: {inputs} -> {outputs}")
    for record in document.get_records(model.ProvDerivation):
        made, source = record.args[:2]
        lines.append(f"derived: {labels[made]} from {labels[source]}")
    plans = [record.args[2] for record in document.get_records(model.ProvAssociation)]
    assert len(set(plans)) == len(list(document.get_records(model.ProvActivity)))
    derived = [line for line in lines if line.startswith("derived: ")]
    print("\n".join(sorted(set(lines) - set(derived)) + sorted(derived)))


main()
