import unittest
from pane import browser


class SignIn(unittest.TestCase):
    def test_a_wrong_password_is_refused(self):
        with browser("a wrong password") as b:
            b.visit("/sign-in")
            b.enter("input[name=name]", "harbourmaster")
            b.enter("input[name=password]", "neap")
            b.click("main button")
            self.assertTrue(b.shows("wrong") or b.shows("refused"))


if __name__ == "__main__":
    unittest.main()
