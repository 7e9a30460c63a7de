import pytest
from pane import browser


@pytest.mark.parametrize("page, title", [("/fees", "Fee"), ("/rules", "Harbour rules")])
def test_page_opens(page, title, request):
    with browser(request.node.name) as b:
        b.visit(page)
        assert title in b.title()


@pytest.mark.skip(reason="no tariff for winter yet")
def test_winter():
    pass
