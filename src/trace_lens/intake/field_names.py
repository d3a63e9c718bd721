"""What the fields of sign-in forms are called, in the languages in which people write them."""

from __future__ import annotations

import re

from trace_lens.common.expressions import expression

PASSWORD_FIELD = expression(
    r"(?:^|[_.\-\[])(?:pass(?:word|wd|phrase|code|ord)?|pwd|passwort|kennwort|mdp|mot_?de_?passe|contrase(?:ñ|n|%C3%B1)a|senha"
    r"|heslo|l(?:ö|o)senord|salasana|has(?:ł|l)o|jelsz(?:ó|o)|sifre|parola?|parool|wachtwoord|adgangskode|kodeord)\]?$"
    r"|pass(?:word|ord|wort)\]?$",
    re.IGNORECASE,
)
"""The name of a field for a password."""
NAME_FIELD = expression(
    r"user|login|e-?mail|account|identifier|^name$|^id$|benutzer|kennung|brukernavn|brugernavn|anv(?:ä|a)ndar"
    r"|utilisateur|identifiant|usuario|utente|utilizador|gebruiker|k(?:ä|a)ytt(?:ä|a)j|u(?:ż|z)ytkownik|u(?:ž|z)ivatel"
    r"|felhaszn|kullanici",
    re.IGNORECASE,
)
"""The name of a field for the name of an account."""
SIGN_IN = expression(
    r"(?:sign|log)[-_ ]?(?:in|on)\b|login|logon|\bauth|\bsessions?\b|anmeld|einlogg|inlogg|aanmeld|connexion"
    r"|se connecter|identifier|iniciar|\baccedi|logg inn|logga in|log ind|kirjaudu|zalog|p(?:ř|r)ihl|bejelentkez|giriş"
    r"|σύνδεση|войти|вход|ログイン|サインイン|登录|登入|로그인",
    re.IGNORECASE,
)
"""What a button, an address or a name says that leads to signing in."""
OTHER_FORM = expression(
    r"sign[-_ ]?up|regist|create|\bsave\b|update|change|\bset\b|confirm|reset|subscri|search|newsletter", re.IGNORECASE
)
"""What the button of a form says that asks for a name or a password for something else."""
