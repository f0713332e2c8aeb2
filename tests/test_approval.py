"""Deliveries that a second person has to sign."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest
from fleets import call, standins, states, write_fleet

KEYGEN = shutil.which("ssh-keygen")
pytestmark = pytest.mark.skipif(not KEYGEN, reason="needs ssh-keygen")


def key(folder: Path, name: str) -> Path:
    path = folder / name
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(path)], check=True)
    return path


def signed(out: Path, by: Path, namespace: str = "ivrel-corrections") -> Path:
    signature = out / "fingerprint.sig"
    signature.unlink(missing_ok=True)
    words = ["-Y", "sign", "-n", namespace, "-f", str(by), str(out / "fingerprint")]
    subprocess.run(["ssh-keygen", *words], check=True, capture_output=True)
    return signature


@pytest.mark.deep
def test_only_what_was_signed_is_delivered(tmp_path: Path) -> None:
    folder, out = tmp_path / "w", tmp_path / "corrections"
    write_fleet(folder, 1, only="holmsay-gw2", patience=3, trial=2)
    mine, others = key(tmp_path, "captain"), key(tmp_path, "stranger")
    kind, public = mine.with_suffix(".pub").read_text().split()[:2]
    (folder / "allowed-signers").write_text(f"captain@skerry.example {kind} {public}\n")
    with standins(folder):
        call("gather", "-w", folder)
        call("correct", "-w", folder, "-o", out, code=None)
        # The fingerprint is one that other programs read.
        subprocess.run(["sha256sum", "-c", "--quiet", "fingerprint"], cwd=out, check=True)

        def refused(signature: Path, *words: str | Path) -> str:
            done = call(
                "deliver", "-w", folder, out, "--approved", signature, *words, "--no-ask", code=2
            )
            return done.stderr

        assert "no such file" in refused(out / "fingerprint.sig")
        assert "nobody of" in refused(signed(out, others))
        assert "is no signature of" in refused(signed(out, mine, "git"))
        signature = signed(out, mine)
        assert "choose one" in refused(signature, "--prove-again")
        change, backout = (out / "holmsay-gw2" / name for name in ("change.txt", "backout.txt"))
        for file, told in ((change, "holmsay-gw2/change.txt is another"), (backout, "backout.txt")):
            good = file.read_bytes()
            file.write_bytes(good + b"\n")
            assert told in refused(signature)
            file.write_bytes(good)
        (out / "more").write_text("x")
        assert "more has come" in refused(signature)
        (out / "more").unlink()
        (out / "fingerprint").write_text((out / "fingerprint").read_text() + "\n")
        assert "is not what was signed" in refused(signature)
        assert states(folder) == {}
        call("correct", "-w", folder, "-o", out, "--replace", code=None)
        signature = signed(out, mine)
        call("deliver", "-w", folder, out, "--approved", signature, "--no-ask", "--no-last-look")
        assert states(folder) == {"holmsay-gw2": "delivered"}
    record = call("deliver", "-w", folder, "--record", "--format", "json").stdout
    assert "approved by captain@skerry.example" in record
