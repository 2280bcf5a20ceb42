from tests import folder_tests

load_tests = folder_tests(__name__)
