"""What tests ask of the window: an entry of a chooser, the open question before a signature."""

from PyQt6.QtWidgets import QMenu

from yarvic.desk.views.release.sign import SignDialog
from yarvic.state.release import begin_waiver, waive


def asked_to_sign(driver):
    """The session, the view, and the open question whether B1 is to be signed; what stands in its way is waived."""
    session = driver.window.session
    if not any(w.condition == "check Knock" for w in session.job.waivers(session.job.revision("B1").id)):
        waive(session, begin_waiver(session, "check Knock"), "Rowan Sedge", "closed course")
    driver.step(8)
    view = driver.window.view("release")
    driver.fill(view.signer, "Rowan Sedge")
    driver.click(view.sign)
    driver.wait("the question", lambda: view.findChild(SignDialog) is not None)
    return session, view, view.findChild(SignDialog)


def choose(driver, button, text):
    """Open a chooser and take the entry that begins with a text."""
    driver.click(button)
    menu = button.findChildren(QMenu)[-1]
    next(a for a in menu.actions() if a.text().startswith(text)).trigger()
    menu.close()
    driver.settle()
