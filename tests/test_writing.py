"""Writing files: whatever was there, whoever edited what, nothing of anybody's is lost."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from hypothesis import given
from hypothesis import strategies as st

from welbik.problems import WelbikError
from welbik.project.writing import carry_out, plan, read

_NAMES = st.sampled_from(["a.py", "b.html", "pages/c.html", "pages/deep/d.py", "tests/e.py"])
_TEXTS = st.sampled_from(["", "one\n", "two\n", "three – ü\r\n"])
_FILES = st.dictionaries(_NAMES, _TEXTS)


def _disk(root: Path) -> dict[str, str]:
    return {
        path.relative_to(root).as_posix(): path.read_bytes().decode()
        for path in root.rglob("*")
        if path.is_file() and ".welbik" not in path.parts
    }


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
            todo = plan(root, wanted)
            carry_out(root, todo)
            after = _disk(root)
            for name in mine:
                assert after[name] == before[name], "a line somebody wrote is gone"
            for name, text in wanted.items():
                if name not in mine:
                    assert after[name] == text
                elif before[name] != text and made.get(name) != text:
                    assert name in todo.edited
            for name in before.keys() - wanted.keys() - mine:
                assert name not in after
            again = plan(root, wanted)
            assert not again.write and not again.remove and not again.forget
            made = {
                name: text
                for name in wanted
                if (text := read(root / ".welbik/made" / name)) is not None
            }
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
        plan(tmp_path, {"a.py": "x"})


def test_a_file_where_a_folder_should_be_changes_nothing(tmp_path: Path) -> None:
    (tmp_path / "pages").write_text("mine")
    with pytest.raises(WelbikError, match="can't be written"):
        carry_out(tmp_path, plan(tmp_path, {"a.py": "x", "pages/c.html": "y"}))
    assert _disk(tmp_path) == {"pages": "mine"}


def test_a_binary_file_in_the_way_is_left_alone(tmp_path: Path) -> None:
    (tmp_path / "a.py").write_bytes(b"\xff\xfe")
    todo = plan(tmp_path, {"a.py": "x"})
    carry_out(tmp_path, todo)
    assert "a.py" in todo.edited and (tmp_path / "a.py").read_bytes() == b"\xff\xfe"
