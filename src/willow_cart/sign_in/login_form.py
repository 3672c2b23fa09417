"""Sign-ins by a form on a web page: find the form, and fill it in."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any
from urllib.parse import urlencode, urljoin, urlsplit

from willow_cart.addresses import host_of, origin_of
from willow_cart.errors import BadAddress, SignInFailed
from willow_cart.redaction import without_secrets
from willow_cart.sign_in.origins import Credential, NamedOrigins
from willow_cart.structs import Value

if TYPE_CHECKING:
    from willow_cart.sign_in.secrets import Secret

FORM_TYPE = "application/x-www-form-urlencoded"

# The kinds of inputs in which a user name may be asked for (HTML, 4.10.5).
_TEXT_TYPES = ("", "text", "email", "tel")


class FormSignIn(Value):
    """What is filled in, and where.

    Attributes:
        address: of the page with the form.
        user: for the text field before the password; empty if `fields` has all.
        password: for the password field; None as above.
        fields: values by the names of their fields.
    """

    address: str
    user: str = ""
    password: Secret | None = None
    fields: tuple[tuple[str, Secret], ...] = ()

    @property
    def addresses(self) -> tuple[str, ...]:
        """The addresses that the user wrote down for it."""
        return (self.address,)

    def fill_in(self, page: bytes, address: str, origins: NamedOrigins) -> FilledForm:
        """Fill in the form on a page, next to its hidden fields.

        Args:
            page: as it came.
            address: of the page, after redirects.
            origins: who named which origins.

        Raises:
            SignInFailed: the form is not there, lacks a field, or sends its values elsewhere.
        """
        if not origins.allow(Credential.FORM, origin_of(address), (origin_of(self.address),)):
            shown = host_of(address) or "nowhere"
            raise self._failed(f"leads to another place, {shown}, which gets no password", _MOVED)
        form = next(_sign_in_forms(page, address), None)
        if form is None:
            raise self._failed("has no form with a password field", "check the address of the form")
        action = urljoin(str(form.base_url or address), form.get("action") or address)
        if (form.get("method") or "get").lower() != "post":
            raise self._failed("has a form that would put the password into an address", _BY_COOKIE)
        if (form.get("enctype") or FORM_TYPE).lower() != FORM_TYPE:
            raise self._failed(f"has a form of the type {form.get('enctype')}", _BY_COOKIE)
        try:
            elsewhere = origin_of(action) != origin_of(address)
        except BadAddress:
            elsewhere = True
        if elsewhere:
            shown = urlsplit(action).hostname or "nowhere"
            raise self._failed(f"has a form that is sent to another host, {shown}", _BY_COOKIE)
        values = dict(form.form_values())  # what is hidden or ticked, as a browser would send it
        values |= self._own_values(form)
        return FilledForm(action, urlencode(values).encode("ascii"))

    def _own_values(self, form: Any) -> dict[str, str]:
        names = [each.get("name") for each in form.iter("input", "select", "textarea")]
        own = {name: secret.value for name, secret in self.fields}
        if self.password is not None:
            user, password = _usual_fields(form)
            if not password or not (user or not self.user):
                raise self._failed("has a form without fields for user and password", _NAME_FIELDS)
            own.setdefault(password, self.password.value)
            if user:
                own.setdefault(user, self.user)
        for name in own:
            if name not in names:
                has = ", ".join(filter(None, names)) or "none"
                raise self._failed(f"has a form without the field {name}; it has {has}", _CHANGED)
        return own

    def is_on(self, page: bytes, address: str) -> bool:
        """Whether a page has the form, so that who got it is not signed in."""
        action = origin_of(self.address)
        for form in _sign_in_forms(page, address):
            target = urljoin(str(form.base_url or address), form.get("action") or address)
            with_fields = {each.get("name") for each in form.iter("input")}
            if target.startswith(f"{action}/") and with_fields >= {name for name, _ in self.fields}:
                return True
        return False

    def _failed(self, reason: str, advice: str) -> SignInFailed:
        return SignInFailed(without_secrets(self.address), f"the page {reason}", advice)

    def refused(self) -> SignInFailed:
        """Return the error for a form that comes again instead of the requested file."""
        return SignInFailed(
            without_secrets(self.address),
            "the sign-in form was returned; user or password were refused",
            "check them, and sign in with a browser to see what it says",
        )


_BY_COOKIE = "sign in with a browser, and give its cookies with --cookies"
_NAME_FIELDS = "name its fields in form_fields"
_MOVED = "if the form is there now, write its address into the config file"
_CHANGED = "check form_fields; the form may have changed"


class FilledForm(Value):
    """A form as it is sent.

    Attributes:
        address: to which it is sent.
        body: the values, URL-encoded.
    """

    address: str
    body: bytes


def _sign_in_forms(page: bytes, address: str) -> Iterator[Any]:
    """Yield the forms on a page that ask for a password."""
    from lxml import html  # few servers have forms

    try:
        document: Any = html.document_fromstring(page, base_url=address)
        document.resolve_base_href(handle_failures="ignore")
    except (ValueError, html.etree.LxmlError):
        return
    for form in document.forms:
        if any((each.get("type") or "").lower() == "password" for each in form.iter("input")):
            yield form


def _usual_fields(form: Any) -> tuple[str, str]:
    """Return the names of the field for a password, and of the text field before it."""
    user = ""
    for each in form.iter("input"):
        kind, name = (each.get("type") or "").lower(), each.get("name") or ""
        if kind == "password":
            return user, name
        if kind in _TEXT_TYPES and name:
            user = name
    return "", ""
