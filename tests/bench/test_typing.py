"""Numbers typed into the fields of the real window, key by key."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QLocale, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractSpinBox, QDoubleSpinBox, QSpinBox

from tests.bench.hands import Hands
from usual_clay.bench.number_field import CountField, NumberField


def type_into(field: QAbstractSpinBox, text: str, whole: bool = True) -> None:
    """Type a number over the old one, its unit with it or not, and finish with Tab."""
    field.setFocus()
    if whole:
        field.lineEdit().selectAll()
    else:
        field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Tab)


@pytest.mark.parametrize("language", ["C", "de_DE", "fr_FR", "en_US"])
def test_the_tolerance_is_what_was_typed(hands: Hands, language: str) -> None:
    usual = QLocale()
    field = hands.window.top_bar.tolerance
    try:
        QLocale.setDefault(QLocale(language))
        for text, value in (("0,07", 0.07), ("0.03", 0.03), ("1/8", 0.125), ("0,002 in", 0.051)):
            type_into(field, text)
            assert hands.session.job.tolerance.deviation == pytest.approx(value, abs=5e-4)
    finally:
        QLocale.setDefault(usual)


def test_what_is_no_number_is_refused_where_it_stands(hands: Hands) -> None:
    field = hands.window.top_bar.tolerance
    type_into(field, "0,07")
    for text, words in (
        ("1.234,5", "“1.234,5” is no number."),
        ("abc", "“abc” is no number."),
        ("700", "“700” does not lie within 0.001 to 100."),
    ):
        type_into(field, text)
        assert field.refusal == words
        assert hands.session.job.tolerance.deviation == pytest.approx(0.07)
        assert field.text() == "0.070"


def test_fields_of_cards_read_it_too(with_demo: Hands) -> None:
    card = with_demo.window.cards.card
    type_into(card.smoothness.number, "0,45")
    with_demo.wait()
    surface = with_demo.session.choice.surface()
    assert surface.recipe.settings.smoothness == pytest.approx(0.45)
    # Before its unit, or over it.
    type_into(card.reach.number, "1/4", whole=False)
    assert card.reach.number.refusal == ""
    with_demo.wait()
    type_into(card.nu, "9,5")
    assert card.nu.refusal
    assert with_demo.session.choice.surface().geometry.counts[0] == 14
    type_into(card.nu, "6+6")
    with_demo.wait()
    assert with_demo.session.choice.surface().geometry.counts[0] == 12


def test_every_field_of_the_window_is_one_of_these(with_demo: Hands) -> None:
    window, count = with_demo.window, 0
    for name in ("probe", "health", "straighten", "slice", "draw"):
        window.commands.run(name)
        with_demo.wait()
        for field in window.findChildren(QAbstractSpinBox):
            if isinstance(field, QDoubleSpinBox | QSpinBox):
                assert isinstance(field, NumberField | CountField), field.accessibleName()
                count += 1
    assert count > 40
