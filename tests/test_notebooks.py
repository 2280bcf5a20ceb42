"""The notebooks run as they stand, from the first cell to the last."""

import unittest
from importlib.util import find_spec
from pathlib import Path

NOTEBOOKS = Path(__file__).parent.parent / "examples" / "notebooks"


@unittest.skipUnless(all(map(find_spec, ("nbclient", "ipykernel"))), "notebooks cannot be run here")
class Notebooks(unittest.TestCase):
    def text_of(self, name):
        """Run a notebook; return everything it shows, as text."""
        import nbformat
        from nbclient import NotebookClient

        book = nbformat.read(NOTEBOOKS / name, as_version=4)
        self.assertFalse(any(cell.get("outputs") for cell in book.cells), "kept without outputs")
        NotebookClient(book, timeout=300, kernel_name="python3").execute()
        shown = []
        for cell in book.cells:
            for output in cell.get("outputs", ()):
                data = output.get("data", {})
                shown += [output.get("text", ""), data.get("text/plain", ""), *data]
        return "\n".join(shown)

    def test_from_a_folder_to_a_decision(self):
        """Forecast, send, measure, why, threshold, verdicts; pictures and tables are shown as such."""
        text = self.text_of("from_a_folder_to_a_decision.ipynb")
        self.assertIn("<Forecast: 33 of 35 images to send, 33 calls, at most 0.0495 EUR>", text)
        self.assertIn("refused: 1: the image is too small for the service", text)
        self.assertIn("33 calls, 0.05 EUR sent to the end", text)
        self.assertRegex(text, r"Faces: 19 of 42 missed; recall 0\.55, between 0\.\d\d and 0\.\d\d")
        self.assertRegex(text, "{'block': [1-9][0-9]*, 'hold': [1-9][0-9]*, 'pass': [1-9][0-9]*}")
        self.assertGreaterEqual(text.count("image/png"), 2)
        self.assertGreaterEqual(text.count("text/html"), 4)

    def test_comparing_two_services(self):
        """Each one's price, the difference with its interval, where they disagree, both together."""
        text = self.text_of("comparing_two_services.ipynb")
        self.assertRegex(
            text, r"recall 0\.86 and 0\.98: difference \+0\.1\d, between [+-]0\.\d\d and"
        )
        self.assertIn("told apart", text)
        self.assertIn("both: faces: precision 1.00, recall 1.00", text)
