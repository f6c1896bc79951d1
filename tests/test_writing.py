"""Writing files: whatever was there, whoever edited what, nothing of anybody's is lost."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from conftest import Project
from hypothesis import given
from hypothesis import strategies as st

from welbik.problems import WelbikError
from welbik.project.building import carry_out
from welbik.project.locking import alone
from welbik.project.machine_state import state_folder
from welbik.project.planning import Plan, plan
from welbik.project.record import read_record
from welbik.project.writing import finish

_NAMES = st.sampled_from(["a.py", "b.html", "pages/c.html", "pages/deep/d.py", "tests/e.py"])
_TEXTS = st.sampled_from(["", "one\n", "two\n", "three – ü\r\n"])
_FILES = st.dictionaries(_NAMES, _TEXTS)


def _disk(root: Path) -> dict[str, str]:
    return {
        path.relative_to(root).as_posix(): path.read_bytes().decode()
        for path in root.rglob("*")
        if path.is_file() and ".welbik" not in path.parts
    }


def _planned(root: Path, wanted: dict[str, str]) -> Plan:
    return plan(root, wanted, read_record(root))


@given(
    st.lists(
        st.tuples(_FILES, st.dictionaries(_NAMES, _TEXTS | st.none(), max_size=3)),
        min_size=1,
        max_size=5,
    )
)
def test_edits_survive_every_sequence_of_builds(
    rounds: list[tuple[dict[str, str], dict[str, str | None]]],
) -> None:
    with TemporaryDirectory() as folder:
        root = Path(folder)
        made: dict[str, str] = {}
        for wanted, edits in rounds:
            before = _disk(root)
            mine = {name for name, text in before.items() if made.get(name) != text}
            out = {name for name in made if name not in before}
            todo = _planned(root, wanted)
            if todo.clashes:
                # What two texts of one line have in common is nothing: both changed it.
                assert {one.name for one in todo.clashes} <= mine & wanted.keys()
                return
            carry_out(root, todo)
            after = _disk(root)
            for name in mine:
                written = {*before[name].splitlines()} - {*made.get(name, "").splitlines()}
                assert written <= {*after[name].splitlines()}, "a line of somebody's is gone"
            for name, text in wanted.items():
                if name not in mine | out:
                    assert after[name] == text
            for name in out & wanted.keys():
                assert name not in after, "what was taken out is back"
            for name in before.keys() - wanted.keys() - mine:
                assert name not in after
            assert not _planned(root, wanted)
            made = {name: texts[0].text for name, texts in read_record(root).files.items()}
            assert made.keys() == wanted.keys()
            for name, edit in edits.items():
                _edit(root / name, edit)


def _edit(path: Path, text: str | None) -> None:
    if text is None:
        path.unlink(missing_ok=True)
    else:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(text.encode())


def test_a_folder_where_a_file_should_be_is_explained(tmp_path: Path) -> None:
    (tmp_path / "a.py").mkdir()
    with pytest.raises(WelbikError, match="is a folder"):
        _planned(tmp_path, {"a.py": "x"})


def test_a_file_where_a_folder_should_be_changes_nothing(tmp_path: Path) -> None:
    (tmp_path / "pages").write_text("mine")
    with pytest.raises(WelbikError, match="can't be written"):
        carry_out(tmp_path, _planned(tmp_path, {"a.py": "x", "pages/c.html": "y"}))
    assert _disk(tmp_path) == {"pages": "mine"}


def test_a_binary_file_in_the_way_is_left_alone(tmp_path: Path) -> None:
    (tmp_path / "a.py").write_bytes(b"\xff\xfe")
    todo = _planned(tmp_path, {"a.py": "x"})
    carry_out(tmp_path, todo)
    assert [one.name for one in todo.of("yours")] == ["a.py"]
    assert (tmp_path / "a.py").read_bytes() == b"\xff\xfe"


def test_what_is_saved_while_a_build_is_worked_out_is_not_written_over(tmp_path: Path) -> None:
    carry_out(tmp_path, _planned(tmp_path, {"a.py": "old", "b.py": "old"}))
    todo = _planned(tmp_path, {"a.py": "new", "b.py": "new"})
    (tmp_path / "b.py").write_text("mine")
    with pytest.raises(WelbikError, match="b.py was changed while"):
        carry_out(tmp_path, todo)
    assert _disk(tmp_path) == {"a.py": "old", "b.py": "mine"}


_KILLED = """
import os, pathlib, signal, sys
from welbik.project import building, planning, record
at, real = {at}, pathlib.Path.replace
calls = [0]
def replace(self, target):
    calls[0] += 1
    if calls[0] == at:
        os.kill(os.getpid(), signal.SIGKILL)
    return real(self, target)
pathlib.Path.replace = replace
root = pathlib.Path(sys.argv[1])
wanted = {{f"f{{n}}.py": "new" for n in range(6)}}
building.carry_out(root, planning.plan(root, wanted, record.read_record(root)))
"""


@pytest.mark.parametrize("at", range(1, 10))
def test_a_build_that_is_killed_is_finished_or_was_never_begun(tmp_path: Path, at: int) -> None:
    before = {f"f{n}.py": "old" for n in range(4)} | {"gone.py": "old"}
    carry_out(tmp_path, _planned(tmp_path, before))
    done = subprocess.run([sys.executable, "-c", _KILLED.format(at=at), tmp_path], check=False)
    with alone(tmp_path):
        finish(tmp_path)
    after = {f"f{n}.py": "new" for n in range(6)}
    assert _disk(tmp_path) == (before if at == 1 else after)
    assert done.returncode == (0 if at > 8 else -signal.SIGKILL)
    assert not list((tmp_path / ".welbik").glob("staging-*"))
    # Whatever happened, no file counts as edited.
    assert {one.state for one in _planned(tmp_path, dict.fromkeys(after, "newer")).changes} <= {
        "new",
        "updated",
        "gone",
    }


_FAILING = """
import errno, os, pathlib, sys
from welbik.problems import WelbikError
from welbik.project import building, planning, record
root, at, seen = pathlib.Path(sys.argv[1]), int(sys.argv[2]), [0]
def writes(event, given):
    if event in ("os.rename", "os.remove", "os.mkdir", "os.rmdir", "os.chmod"):
        return True
    return event == "open" and isinstance(given[2], int) and given[2] & (os.O_WRONLY | os.O_RDWR)
def fail(event, given):
    if writes(event, given) and str(root) in str(given):
        seen[0] += 1
        if seen[0] == at:
            raise OSError(errno.ENOSPC, "No space left on device", str(given[0]))
wanted = {f"f{n}.py": "new" for n in range(3)} | {"pages/deep/g.html": "new"}
todo = planning.plan(root, wanted, record.read_record(root))
sys.addaudithook(fail)
try:
    building.carry_out(root, todo)
except WelbikError as error:
    print("refused:", error.message)
print("reached" if seen[0] >= at else "all of it")
"""


def test_a_write_that_fails_anywhere_leaves_the_old_files_or_the_new(tmp_path: Path) -> None:
    before = {f"f{n}.py": "old" for n in range(2)} | {"gone.py": "old"}
    after = {f"f{n}.py": "new" for n in range(3)} | {"pages/deep/g.html": "new"}
    refused = 0
    for at in range(1, 100):
        root = tmp_path / str(at)
        root.mkdir()
        carry_out(root, _planned(root, before))
        done = subprocess.run(
            [sys.executable, "-c", _FAILING, root, str(at)],
            capture_output=True,
            text=True,
            check=True,
        )
        with alone(root):
            finish(root)
        assert _disk(root) == (before if "refused" in done.stdout else after), at
        assert {path.name for path in (root / ".welbik").iterdir()} == {
            ".gitattributes",
            "base",
            "built",
        }
        assert not any(one.state == "clash" for one in _planned(root, after).changes)
        refused += "refused" in done.stdout
        if "all of it" in done.stdout:
            break
    assert at > refused > 15


def test_the_next_command_finishes_what_was_broken_off(built: Project) -> None:
    staging = built.root / ".welbik" / "staging-left"
    staging.mkdir()
    (staging / "new-0").write_text("# done\n")
    folder = state_folder(built.root, create=True)
    assert folder is not None
    moves = [["new-0", "bees/late.py"], ["", "bees/hive/form.py"]]
    (folder / "journal.json").write_text(json.dumps({"staging": "staging-left", "moves": moves}))
    built.run("status", code=1)
    assert built.read("bees/late.py") == "# done\n"
    assert not (built.root / "bees/hive/form.py").exists() and not staging.exists()


def test_a_file_edited_into_what_is_declared_is_in_step(built: Project) -> None:
    built.replace("bees/hive/form.py", "high=24", "high=30")
    built.replace("models/bees.welbik", "integer 4..24", "integer 4..30")
    assert "code          as declared" not in built.run("status", code=1).stdout
    built.run("build")
    assert "bees/hive/form.py" not in built.run("build", "--preview").stdout
    built.replace("bees/hive/form.py", "high=30", "high=31")
    built.replace("bees/hive/form.py", "high=31", "high=30")
    assert "code          as declared" in built.run("status", code=1).stdout


def test_code_of_a_model_that_went_goes_only_when_agreed(built: Project) -> None:
    text = built.read("models/bees.welbik")
    built.declare(
        text[: text.index("model Hive")].replace("    hives   <- Hive.keeper, sorted by code\n", "")
    )
    before = built.files()
    refused = built.run("build", code=1).stderr
    assert "bees/hive" in refused and "--allow-loss" in refused
    assert built.files() == before
    built.run("build", "--allow-loss")
    assert not (built.root / "bees" / "hive").exists()
    built.declare("")
    assert "No model is declared yet" in built.run("check").stdout
    assert "welbik add" in built.run("status", code=1).stdout
