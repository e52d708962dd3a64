"""Figures: drawn on the axes given, with units on every axis, honest about what did not converge."""

import contextlib
import io
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

import zephyrum as zy
from zephyrum.cli import tables
from zephyrum.plotting import draw_cp, draw_field, draw_history, draw_mesh, draw_polar, draw_refinement, draw_section
from zephyrum.plotting.style import new_axes, save
from zephyrum.studies.grid_convergence import refinement_of


class Figures(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.foil = zy.Airfoil.naca("2412")
        cls.mesh = zy.mesh_airfoil(cls.foil, 64, 16, topology="O")
        cls.solution = zy.solve(cls.mesh, zy.Freestream(mach=0.7, alpha=2.0), numerics=zy.Numerics(residual_drop=5))

    def assert_units(self, *axes):
        for ax in axes:
            self.assertRegex(ax.get_ylabel(), r"\[.+\]|step")
            position = ax.get_subplotspec()
            if position is None or position.is_last_row() or not ax.get_shared_x_axes().get_siblings(ax)[1:]:
                self.assertRegex(ax.get_xlabel(), r"\[.+\]|step")

    def test_cp_has_suction_up_and_the_sonic_line(self):
        ax = draw_cp(self.solution)
        self.assertTrue(ax.yaxis_inverted())
        self.assert_units(ax)
        self.assertTrue(any("sonic" in text.get_text() for text in ax.texts))
        labels = [text.get_text() for text in ax.get_legend().get_texts()]
        self.assertEqual([label.split(" ")[0] for label in labels], ["upper", "lower"])

    def test_functions_draw_on_the_axes_they_are_given(self):
        _, ax = new_axes()
        self.assertIs(draw_cp(self.solution, ax), ax)
        self.assertIs(draw_field(self.solution, "mach", ax=ax), ax)
        _, axes = new_axes(2, 1)
        self.assertIs(draw_history(self.solution, axes), axes)
        self.assertIs(draw_section(self.foil, axes), axes)

    def test_history_shows_residuals_and_coefficients_together(self):
        top, bottom = draw_history(self.solution)
        self.assertEqual(top.get_yscale(), "log")
        self.assertEqual(len(bottom.lines), 3)
        self.assertIn(self.solution.outcome, top.get_title())
        self.assert_units(top, bottom)

    def test_field_shows_stagnation_point_and_keeps_a_fixed_range(self):
        ax = draw_field(self.solution, "cp", limits=(-1.0, 1.0))
        labels = [text.get_text() for text in ax.get_legend().get_texts()]
        self.assertIn("stagnation point", labels)
        bar = ax.figure.axes[-1]
        self.assertAlmostEqual(bar.get_ylim()[0], -1.0)
        self.assertAlmostEqual(bar.get_ylim()[1], 1.0)
        self.assertIn("clipped", bar.get_title())
        with self.assertRaisesRegex(zy.InputError, "field"):
            draw_field(self.solution, "colour")

    def test_mesh_views(self):
        for view in ("all", "near", "nose", "tail"):
            ax = draw_mesh(self.mesh, view)
            self.assert_units(ax)
        with self.assertRaisesRegex(zy.InputError, "view"):
            draw_mesh(self.mesh, "wing")

    def test_polar_marks_what_did_not_settle(self):
        row = self.solution.row()
        rows = [
            row | {"alpha": float(a), "CL": 0.1 * a, "outcome": "converged" if a < 4 else "oscillating"}
            for a in range(6)
        ]
        polar = zy.Polar.of(rows)
        axes = draw_polar(polar.with_errors({"CL": 0.01}, {"CD": 1e-4}))
        first = np.ravel(axes)[0]
        self.assertIn("open marks", first.get_title())
        faces = [str(line.get_markerfacecolor()) for line in first.lines if line.get_marker() == "o"]
        self.assertIn("white", faces)
        self.assert_units(*np.ravel(axes))

    def test_error_bars_take_the_larger_of_share_and_floor_plus_swing(self):
        row = self.solution.row()
        polar = zy.Polar.of(
            [row | {"CL": 2.0, "CL_amplitude": 0.5}, row | {"alpha": 9.0, "CL": 0.001, "CL_amplitude": 0.0}]
        )
        errors = polar.with_errors({"CL": 0.01}, {"CL": 0.003}).table["CL_error"].tolist()
        self.assertAlmostEqual(errors[0], 0.52)
        self.assertAlmostEqual(errors[1], 0.003)

    def test_refinement_chart_reports_order_and_error(self):
        rows = [
            {
                "level": k,
                "cells": 4096 // 4**k,
                "h": 2.0**k,
                "CL": 1 + 0.01 * 4**k,
                "CD": 0.01 + 1e-3 * 4**k,
                "CM": -0.1,
                "outcome": "converged",
            }
            for k in range(3)
        ]
        made = refinement_of(rows, self.solution.air)
        axes = draw_refinement(made)
        self.assertIn("observed order 2.00", axes[0].get_title())
        self.assert_units(*axes)
        self.assertEqual(made.outcome, "all coefficients are in the asymptotic range")
        self.assertIn("extrapolated", " ".join(one.get_text() for one in axes[0].get_legend().get_texts()))
        rows[2]["CL"] = rows[1]["CL"] - 0.01
        aside = draw_refinement(refinement_of(rows, self.solution.air))[0]
        self.assertNotIn("extrapolated", " ".join(one.get_text() for one in aside.get_legend().get_texts()))
        rows[1]["outcome"] = "oscillating"
        self.assertIn("did not converge", refinement_of(rows, self.solution.air).estimates["CL"].words)

    def test_pictures_have_the_house_size_and_need_no_display(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.png"
            figure, ax = new_axes()
            draw_cp(self.solution, ax)
            save(figure, path)
            header = path.read_bytes()[16:24]
        width, height = int.from_bytes(header[:4], "big"), int.from_bytes(header[4:], "big")
        self.assertEqual((width, height), (1280, 800))


class Tables(unittest.TestCase):
    def test_numbers_keep_their_digits_or_their_column_is_named_as_left_out(self):
        for count in range(6, 26):
            rows = [{f"c{k:02}": 123456.0 + k for k in range(count)}]
            for width in (60, 80, 150):
                with mock.patch.object(tables, "WIDTH", width), contextlib.redirect_stdout(io.StringIO()) as said:
                    tables.table(rows, dict.fromkeys(rows[0], ".1f"))
                head, _, *numbers = (line for line in said.getvalue().splitlines() if line.strip())
                shown = head.split()
                self.assertEqual(numbers[0].split(), [f"{rows[0][name]:.1f}" for name in shown])
                self.assertLessEqual(len(head.rstrip()), width)
                for name in set(rows[0]) - set(shown):
                    self.assertIn(name, numbers[-1])
