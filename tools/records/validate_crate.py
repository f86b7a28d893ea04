"""Checks a Process Run Crate with PyPI's `roc-validator`, without a network: the context that it would fetch is the one that
PyPI's `rocrate` ships. Says each requirement that is not met, and how many checks there were.

    python validate_crate.py CONTEXT.jsonld CRATE-FOLDER
"""

import io
import pathlib
import sys
import tempfile

import urllib3
from requests.adapters import HTTPAdapter
from requests_cache import CachedSession
from rocrate_validator import services
from rocrate_validator.models import Severity, ValidationSettings

CONTEXT = "https://w3id.org/ro/crate/1.1/context"


class FromFile(HTTPAdapter):
    """Answers with a file's text."""

    def __init__(self, text):
        super().__init__()
        self.text = text

    def send(self, request, **_):
        raw = urllib3.HTTPResponse(
            body=io.BytesIO(self.text),
            status=200,
            headers={"Content-Type": "application/ld+json"},
            preload_content=False,
            request_url=request.url,
        )
        return self.build_response(request, raw)


def main():
    context, crate = sys.argv[1:]
    with tempfile.TemporaryDirectory() as folder:
        cache = str(pathlib.Path(folder, "cache"))
        session = CachedSession(cache_name=cache, backend="sqlite", expire_after=-1)
        session.mount("https://", FromFile(pathlib.Path(context).read_bytes()))
        session.get(CONTEXT).raise_for_status()
        session.close()
        result = services.validate(
            ValidationSettings(
                rocrate_uri=crate,
                profile_identifier="process-run-crate-0.5",
                requirement_severity=Severity.REQUIRED,
                offline=True,
                cache_path=cache,
            )
        )
    for issue in result.get_issues():
        print(f"{issue.check.identifier}: {issue.message}")
    checked = len(result.executed_checks)
    failed = len(result.failed_checks)
    print(f"{checked - failed} of {checked} required checks passed")
    # It passes nothing that it could not look at.
    return 0 if result.passed() and checked else 1


sys.exit(main())
